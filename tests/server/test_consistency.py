"""The same thing by two ways: the server and the command line, the first load and the second."""

import io
import json
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from django.test import TestCase
from rich.console import Console

from doppio.command import demo_data, demo_person, show
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import QuestionError
from doppio.core.formats.documents import read_file
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.progress import Silent
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from doppio.jobs.models import Job
from doppio.library.models import Document, Workspace
from doppio.library.services import store_documents
from doppio.recipes.models import RecipeVersion
from doppio.trials.models import TrialRecord
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
        from doppio.library.corpus import corpus_of

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

    def write(self, name, text):
        (self.folder / "documents" / name).write_text(text)

    def ask(self, quote):
        question = {"id": "1", "text": "When does it stop?", "answers": [{"document": "wind.md", "quote": quote}]}
        (self.folder / "questions.jsonl").write_text(json.dumps(question))

    def load(self):
        return demo_data.load_demo(self.folder), demo_data.measure_in_force(Silent())

    def test_a_second_load_keeps_every_record(self):
        self.assertEqual(self.load(), ("2 documents added, 1 questions, 9 recipes",
                                       "outline in context v2 measured, 1 of 1 questions delivered"))  # fmt: skip
        before = list(TrialRecord.objects.values_list("pk", flat=True))
        self.assertEqual(self.load(), ("there", "outline in context v2, 1 of 1 questions delivered"))
        self.assertEqual(list(TrialRecord.objects.values_list("pk", flat=True)), before)
        self.assertEqual(RecipeVersion.objects.get(in_force=True).name, "outline in context")

    def test_vectors_made_ahead_are_those_that_the_recipe_in_force_takes(self):
        # What no other test has built.
        self.write("dogs.md", "# Dogs\n\nA dog on a lead rides for 7 crowns a day.")
        demo_data.load_demo(self.folder)
        self.assertEqual(demo_data.encode_in_force(), "vectors of 2 chunks made")
        told = mock.Mock()
        self.assertIn("1 of 1 questions delivered", demo_data.measure_in_force(told))
        begun = [call.args[0] for call in told.start.call_args_list]
        self.assertEqual(begun, ["index terms", "ask questions"])

    def test_only_the_recipe_in_force_is_measured_at_once_and_the_others_are_left_to_the_worker(self):
        self.load()
        self.assertEqual(TrialRecord.objects.get().recipe, RecipeVersion.objects.get(in_force=True))
        self.assertEqual((demo_data.queue_others(), Job.objects.filter(kind="trial").count()), (8, 8))
        self.assertEqual((demo_data.queue_others(), Job.objects.filter(kind="trial").count()), (8, 8))
        waiting = set(Job.objects.values_list("details__recipe", flat=True))
        self.assertEqual(waiting, set(RecipeVersion.objects.filter(in_force=False).values_list("pk", flat=True)))

    def test_a_changed_document_is_replaced_and_measured_anew(self):
        self.load()
        kept = Document.objects.get(name="dogs.md").pk
        self.write("wind.md", "# Wind\n\nThe gondola stops at 20 metres a second, or sooner.")
        _, measured = self.load()
        self.assertEqual(measured, "outline in context v2 measured, 1 of 1 questions delivered")
        self.assertEqual(Document.objects.get(name="dogs.md").pk, kept)
        self.assertIn("20 metres", Document.objects.get(name="wind.md").text)

    def test_what_the_folder_no_longer_has_goes_but_not_what_somebody_brought_in(self):
        demo_data.load_demo(self.folder)
        (self.folder / "documents" / "dogs.md").unlink()
        demo_data.load_demo(self.folder)
        space = Workspace.objects.get()
        self.assertEqual(list(space.documents.values_list("name", flat=True)), ["wind.md"])
        space.imports.create()
        store_documents(space, read_file(b"# Bolts\n\nOf the tower.", "bolts.md"))
        self.assertEqual(demo_data.load_demo(self.folder), "there")
        self.assertEqual(list(space.documents.values_list("name", flat=True)), ["bolts.md", "wind.md"])

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
        self.assertIsNone(demo_person.entry_link())
        demo_data.load_demo(self.folder)
        link = demo_person.entry_link()
        self.assertEqual(self.client.post(f"/enter/{link}").status_code, 302)
        self.assertEqual(self.client.get("/api/session").json()["username"], demo_person.PERSON)


class Bars(unittest.TestCase):
    """What the command line says while it works."""

    def bars(self, console):
        self.enterContext(mock.patch.object(show, "err", console))
        with show.progress_bars() as bars:
            bars.start("encode chunks", 300, "chunks")
            for _ in range(3):
                bars.advance(100)
        return console.file.getvalue()

    def test_a_terminal_shows_bars_with_count_and_rate(self):
        said = self.bars(Console(file=io.StringIO(), width=200, force_terminal=True))
        self.assertIn("encode chunks", said)
        self.assertIn("300/300", said)

    def test_elsewhere_there_is_one_line_a_step(self):
        said = self.bars(Console(file=io.StringIO(), width=200))
        self.assertRegex(said, r"^    encode chunks: 300 of 300 chunks, \d+\.\d s\n$")
