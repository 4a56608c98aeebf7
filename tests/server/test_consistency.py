"""The same thing by two ways: the server and the command line, the first load and the second."""

import io
import json
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.test import TestCase
from rich.console import Console

from doppio.asking.models import RecipeVersion
from doppio.command import demo_data, setup, show
from doppio.core.artifacts import ArtifactStore
from doppio.core.build import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DoppioError, QuestionError
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.text.document import corpus_fingerprint
from doppio.library.models import Document, Workspace
from doppio.measuring.models import TrialRecord
from doppio.site.test_runner import SummingRunner
from tests.core.corpus import MODELS, ROOT, documents, recipe
from tests.server.workspace import labelled, make_workspace, measured


class ServerAndCore(TestCase):
    def test_a_recorded_trial_has_the_figures_of_the_core_alone(self):
        workspace, _ = make_workspace()
        _, record = measured(workspace)
        corpus = documents()
        with tempfile.TemporaryDirectory() as place:
            builder = Builder(ArtifactStore(Path(place)), Models(MODELS))
            key = corpus_fingerprint(corpus)
            table = builder.chunks(corpus, key, recipe())
            texts = CorpusTexts(corpus, table)
            builder.indexes(key, recipe(), texts)
            pipeline = builder.open(key, recipe(), texts)
            alone = run_trial(pipeline, [document.id for document in corpus], labelled())
        self.assertEqual((record.levels, record.ledger, record.intact), (alone.levels, alone.ledger, alone.intact))
        for stage, metrics in alone.stages.items():
            for name, value in metrics.items():
                self.assertAlmostEqual(record.stages[stage][name], value, msg=f"{stage} {name}")
        causes = dict(record.rows.values_list("question__identity", "cause"))
        self.assertEqual(causes, {row.question.id: row.cause for row in alone.rows})

    def test_both_give_the_corpus_the_same_fingerprint(self):
        from doppio.library.services import corpus_of

        workspace, _ = make_workspace()
        self.assertEqual(corpus_of(workspace), corpus_fingerprint(documents()))


class DemoLoading(TestCase):
    """The demo's loader on a demo of three documents."""

    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        (self.folder / "documents").mkdir()
        self.write("wind.md", "# Wind\n\nThe gondola stops at 18 metres a second.")
        self.write("dogs.md", "# Dogs\n\nA dog rides for 6 crowns a day.")
        self.ask("The gondola stops")
        shutil.copytree(ROOT / "demo" / "recipes", self.folder / "recipes")
        quiet = Console(file=io.StringIO())
        self.enterContext(mock.patch.object(show, "err", quiet))
        self.enterContext(mock.patch.object(demo_data, "err", quiet))

    def write(self, name, text):
        (self.folder / "documents" / name).write_text(text)

    def ask(self, quote):
        question = {"id": "1", "text": "When does it stop?", "answers": [{"document": "wind.md", "quote": quote}]}
        (self.folder / "questions.jsonl").write_text(json.dumps(question))

    def test_a_second_load_keeps_every_record(self):
        self.assertEqual(demo_data.load_demo(self.folder), "2 documents added, 1 questions, 7 recipes measured")
        before = list(TrialRecord.objects.values_list("pk", flat=True))
        self.assertEqual(demo_data.load_demo(self.folder), "there")
        self.assertEqual(list(TrialRecord.objects.values_list("pk", flat=True)), before)
        self.assertEqual(RecipeVersion.objects.get(in_force=True).name, "two-branch")

    def test_a_changed_document_is_replaced_and_everything_measured_anew(self):
        demo_data.load_demo(self.folder)
        kept = Document.objects.get(name="dogs.md").pk
        self.write("wind.md", "# Wind\n\nThe gondola stops at 20 metres a second, or sooner.")
        said = demo_data.load_demo(self.folder)
        self.assertEqual(said, "0 documents added, 1 questions, 7 recipes measured")
        self.assertEqual(Document.objects.get(name="dogs.md").pk, kept)
        self.assertIn("20 metres", Document.objects.get(name="wind.md").text)

    def test_a_quote_that_is_not_there_changes_nothing(self):
        demo_data.load_demo(self.folder)
        before = Document.objects.get(name="wind.md").digest
        self.write("wind.md", "# Wind\n\nAnother text.")
        with self.assertRaisesRegex(
            QuestionError, 'questions.jsonl, line 1: .*"The gondola stops" is not in wind.md'
        ):
            demo_data.load_demo(self.folder)
        self.assertEqual(Document.objects.get(name="wind.md").digest, before)
        self.assertEqual(Workspace.objects.get().questions.count(), 1)

    def test_a_link_is_made_for_the_person_of_the_demo(self):
        self.assertIsNone(demo_data.entry_link())
        demo_data.load_demo(self.folder)
        link = demo_data.entry_link()
        self.assertEqual(self.client.post(f"/enter/{link}").status_code, 302)
        self.assertEqual(self.client.get("/api/session").json(), {"username": demo_data.PERSON})


class Said(unittest.TestCase):
    """What the launcher says while it works."""

    def console(self, module):
        page = io.StringIO()
        self.enterContext(mock.patch.object(module, "err", Console(file=page, width=200)))
        return page

    def test_a_step_says_what_it_did_and_how_long_it_took(self):
        page = self.console(setup)
        setup.step("tables", lambda: "up to date")
        self.assertRegex(page.getvalue(), r"^  tables \.\.\. up to date \(0\.0 s\)\n$")

    def test_a_step_that_fails_says_so_and_passes_the_error_on(self):
        page = self.console(setup)

        def fails():
            raise DoppioError("no disk")

        with self.assertRaises(DoppioError):
            setup.step("tables", fails)
        self.assertEqual(page.getvalue(), "  tables ... failed\n")

    def test_bars_show_count_and_rate(self):
        page = self.console(show)
        with show.progress_bars() as bars:
            bars.start("encode chunks", 300, "chunks")
            for _ in range(3):
                bars.advance(100)
        self.assertIn("encode chunks", page.getvalue())
        self.assertIn("300/300", page.getvalue())

    def test_the_secret_key_is_made_once_and_for_this_account_alone(self):
        with tempfile.TemporaryDirectory() as folder, mock.patch.object(setup, "VAR", Path(folder)):
            setup.secret_key()
            path = Path(folder) / "secret-key"
            first = path.read_text()
            setup.secret_key()
            self.assertEqual(path.read_text(), first)
            self.assertGreaterEqual(len(first), 60)
            self.assertEqual(path.stat().st_mode & 0o777, 0o600)

    def test_the_interface_is_built_again_only_when_a_source_changes(self):
        with tempfile.TemporaryDirectory() as folder:
            web = Path(folder)
            (web / "src").mkdir()
            (web / "dist").mkdir()
            for name in ("src/main.tsx", "index.html", "package-lock.json", "vite.config.ts"):
                (web / name).write_text(name)
            built = []
            with (
                mock.patch.object(setup, "WEB", web),
                mock.patch.object(setup, "run", lambda command, *a, **k: built.append(command) or ""),
            ):
                self.assertEqual(setup.interface(), "built")
                self.assertEqual(setup.interface(), "up to date")
                (web / "src/main.tsx").write_text("other")
                self.assertEqual(setup.interface(), "built")
        self.assertEqual(len(built), 2)


class Sums(unittest.TestCase):
    """The last line of the test run."""

    def run_suite(self, *tests):
        runner = SummingRunner(verbosity=0, interactive=False)
        result = unittest.TestResult()
        unittest.TestSuite(tests).run(result)
        runner.counts = (0, 0, 0)
        failed = runner.suite_result(None, result)
        return failed, runner.counts

    def test_passed_failed_and_skipped_add_up(self):
        class Some(unittest.TestCase):
            def good(self):
                pass

            def bad(self):
                self.fail("bad")

            def broken(self):
                raise RuntimeError("broken")

            def left_out(self):
                self.skipTest("not here")

            def bad_twice(self):
                for part in range(2):
                    with self.subTest(part):
                        self.fail("bad")

        names = ("good", "good", "bad", "broken", "left_out", "bad_twice")
        self.assertEqual(self.run_suite(*map(Some, names)), (3, (2, 3, 1)))

    def test_it_is_the_runner_in_force(self):
        self.assertEqual(settings.TEST_RUNNER, "doppio.site.test_runner.SummingRunner")
