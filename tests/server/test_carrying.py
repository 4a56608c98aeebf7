"""A workspace as one file: what comes in is what went out, to the last digit; and copies, and a new beginning."""

import json
import tempfile
import zipfile
from pathlib import Path
from unittest import mock

from django.contrib.auth.models import User
from django.core.management import call_command
from django.test import Client, TestCase

from doppio.core.errors import DoppioError
from doppio.core.progress import Silent
from doppio.core.text.outline import Correction
from doppio.library import files
from doppio.library.carrying import pack, unpack
from doppio.library.corpus import corpus_of
from doppio.library.members import invite
from doppio.library.models import Document, Role, SourceFile, Workspace
from doppio.library.services import correct_outline
from doppio.questions.models import AnswerSpan, Decision, Question
from doppio.questions.services import core_questions
from doppio.questions.suggested import decide, suggested
from doppio.questions.writing import add_label, set_for
from doppio.recipes.builds import builder, is_built
from doppio.recipes.services import core_recipe
from doppio.trials.models import Judgement, Pool
from doppio.trials.pools import judge_item, start_pool
from doppio.trials.services import latest_trial, measure_recipe
from tests.server.committed import Committed
from tests.server.test_workspaces import Sending
from tests.server.workspace import make_workspace, measured

DATA = b"# Kept\n\nAs it was imported."


def filled():
    """A workspace with something of everything."""
    workspace, user = make_workspace()
    judge = User.objects.create_user("judge.a")
    files.keep(DATA)
    file = SourceFile.objects.create(workspace=workspace, name="wind.md", digest=files.file_digest(DATA), bytes=27)
    document = workspace.documents.get(name="wind.md")
    workspace.documents.filter(name="wind.md").update(file=file, version=3)
    correct_outline(document, [Correction(document.sections.last().title, 1, "level", 3)])
    question = Question.objects.get(identity="q3")
    add_label(question, document, 0, 4, 0, judge)
    AnswerSpan.objects.filter(question__identity="q1").update(lost=True, quote="gone", start=None, end=None)
    Question.objects.filter(identity="q3").update(group="storms", tags=["new"])
    one = suggested(workspace, 1)[0]
    place = (one["start"], one["end"])
    decide(Document.objects.get(pk=one["document"]), one["rule"], one["text"], *place, None, set_for(workspace), user)
    return workspace, user, judge


class Carried(Committed):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.file = Path(place.name) / "w.zip"

    def said(self, workspace):
        """All that a workspace's file holds, but for when it was made."""
        pack(workspace, self.file)
        with zipfile.ZipFile(self.file) as source:
            names = sorted(source.namelist())
            read = {name: source.read(name) for name in names if name != "manifest.json"}
            about = json.loads(source.read("manifest.json"))
        return {**read, "manifest.json": {key: about[key] for key in ("rows", "files", "marked")}}

    def test_what_comes_in_is_what_went_out_and_measures_the_same(self):
        workspace, user, judge = filled()
        recipe, trial = measured(workspace)
        start_pool(workspace, user, "First", [recipe], 2, None)
        call_command("work", once=True)
        judge_item(Pool.objects.get().items.first(), judge, 2.0)
        workspace.refresh_from_db()
        before = self.said(workspace)
        made = unpack(self.file, user)
        self.assertEqual(self.said(made), before)
        self.assertEqual((made.name, corpus_of(made)), ("Ropeway (2)", corpus_of(workspace)))
        self.assertEqual(core_questions(made), core_questions(workspace))
        self.assertEqual(Judgement.objects.filter(item__pool__workspace=made).get().judge, judge)
        again = measure_recipe(made.recipes.get(), Silent())
        own = measure_recipe(recipe, Silent())
        for name in ("stages", "levels", "ledger", "chunks", "intact", "answerable"):
            self.assertEqual(getattr(again, name), getattr(own, name), name)
        kept = made.trials.order_by("pk").first()
        self.assertEqual((kept.stages, kept.measured_at), (trial.stages, trial.measured_at))

    def test_with_indexes_nothing_is_built_again(self):
        workspace, user, _ = filled()
        recipe, _ = measured(workspace)
        pack(workspace, self.file, attachments=True)
        built = builder().artifacts(builder().keys(corpus_of(workspace), core_recipe(recipe)))
        with tempfile.TemporaryDirectory() as elsewhere, self.settings(DOPPIO_ARTIFACTS=Path(elsewhere)):
            plain = unpack(self.file, user)
            self.assertFalse(is_built(plain, core_recipe(plain.recipes.get())))
            made = unpack(self.file, user, attachments=True)
            own = core_recipe(made.recipes.get())
            self.assertTrue(is_built(made, own))
            self.assertEqual(builder().artifacts(builder().keys(corpus_of(made), own)), built)
            told = mock.Mock()
            again = measure_recipe(made.recipes.get(), told)
            self.assertEqual([call.args[0] for call in told.start.call_args_list], ["ask questions"])
        self.assertEqual(again.stages, measure_recipe(recipe, Silent()).stages)

    def test_elsewhere_people_who_are_not_known_can_be_named_but_not_sign_in_until_invited(self):
        workspace, _, _ = filled()
        pack(workspace, self.file)
        owner = User.objects.create_user("owner elsewhere")
        User.objects.filter(username="judge.a").delete()
        made = unpack(self.file, owner)
        span = AnswerSpan.objects.get(question__workspace=made, grade=0)
        self.assertEqual((span.judge.username, span.judge.is_active), ("judge.a", False))
        self.assertEqual([row.user for row in made.memberships.all()], [owner])
        secret = invite(made, "judge.a", Role.JUDGE).secret
        self.assertEqual(Client().post(f"/enter/{secret}").status_code, 302)

    def test_a_file_that_is_none_or_damaged_leaves_nothing_behind(self):
        workspace, user, _ = filled()
        pack(workspace, self.file)
        whole = self.file.read_bytes()
        with zipfile.ZipFile(self.file) as source:
            parts = {name: source.read(name) for name in source.namelist()}

        def changed(**changes):
            with zipfile.ZipFile(self.file, "w") as out:
                for name, data in {**parts, **changes}.items():
                    if data is not None:
                        out.writestr(name, data)

        questions = parts["questions.jsonl"].splitlines(keepends=True)
        row = json.loads(questions[1])
        cases = (
            (lambda: self.file.write_bytes(b"nothing"), "damaged"),
            (lambda: self.file.write_bytes(whole[: len(whole) // 2]), "damaged"),
            (lambda: changed(**{"manifest.json": None}), "manifest.json is not in it"),
            (lambda: changed(**{"manifest.json": b'{"format": "other"}'}), "no doppio-workspace/1"),
            (lambda: changed(**{next(n for n in parts if n.startswith("files/")): b"x"}), "not what was written"),
            (lambda: changed(**{"questions.jsonl": questions[0] + b"[]\n"}), "questions.jsonl, line 2: not a JSON"),
            (lambda: changed(**{"questions.jsonl": questions[0] + json.dumps({**row, "set": "x"}).encode()}),
             "questions.jsonl, line 2: 'x' is missing"),
            (lambda: changed(**{"recipes.jsonl": b'{"body": {}}\n'}), "format"),
        ) if parts.get("recipes.jsonl") is not None else ()  # fmt: skip
        before = Workspace.objects.count()
        for make, message in cases:
            make()
            with self.subTest(message), self.assertRaisesRegex(DoppioError, message):
                unpack(self.file, user)
            self.assertEqual(Workspace.objects.count(), before)
        self.assertEqual(len(cases), 8)
        self.assertTrue(files.place_of(files.file_digest(DATA)).exists(), "what others need stays")


class CopiedAndEmptied(Sending, TestCase):
    def setUp(self):
        self.workspace, self.user, _ = filled()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}"

    def test_a_copy_holds_the_same_and_is_another(self):
        status, said = self.send("post", f"{self.at}/copy", {"name": "Trial grounds"})
        self.assertEqual((status, said["documents"], said["role"]), (201, self.workspace.documents.count(), "owner"))
        copy = Workspace.objects.get(pk=said["id"])
        self.assertEqual(core_questions(copy), core_questions(self.workspace))
        copy.questions.all().delete()
        self.assertGreater(self.workspace.questions.count(), 0)
        self.assertIn("another workspace's", self.send("post", f"{self.at}/copy", {"name": "Ropeway"})[1]["detail"])

    def test_one_that_is_emptied_begins_anew_and_what_was_can_be_brought_back(self):
        recipe, _ = measured(self.workspace)
        status, said = self.send("post", f"{self.at}/emptied", {})
        self.assertEqual((status, said["name"], said["documents"]), (201, "Ropeway", 0))
        made = Workspace.objects.get(pk=said["id"])
        self.assertEqual((made.recipes.get().fingerprint, made.recipes.get().in_force), (recipe.fingerprint, True))
        self.assertIsNone(latest_trial(made.recipes.get()))
        self.assertEqual(self.send("post", f"{self.at}/bring-back", {})[1]["name"], "Ropeway, before it was emptied")
        self.assertGreater(Decision.objects.count(), 0)

    def test_a_file_goes_out_and_comes_in_by_the_api(self):
        answer = self.client.get(f"{self.at}/export")
        data = answer.getvalue()
        self.assertIn("Ropeway.doppio.zip", answer.headers["Content-Disposition"])
        with tempfile.NamedTemporaryFile(suffix=".zip") as file:
            file.write(data)
            file.seek(0)
            made = self.client.post("/api/workspaces/import", {"file": file, "name": "Elsewhere"})
        self.assertEqual((made.status_code, made.json()["name"]), (201, "Elsewhere"))
        self.assertEqual(self.client.post("/api/workspaces/import", {}).status_code, 400)


class Commands(Committed):
    def test_the_command_writes_and_reads_one(self):
        from typer.testing import CliRunner

        from doppio.command.workspace import app

        filled()
        User.objects.create_user("engineer")
        with tempfile.TemporaryDirectory() as folder, mock.patch("doppio.command.workspace.running"):
            path = str(Path(folder) / "w.zip")
            said = CliRunner().invoke(app, ["export", "Ropeway", path], catch_exceptions=False)
            self.assertEqual((said.exit_code, "4 questions" in said.output), (0, True), said.output)
            said = CliRunner().invoke(app, ["import", path, "--name", "Again"], catch_exceptions=False)
            self.assertIn("Again: 3 documents", " ".join(said.output.split()))
            with self.assertRaisesRegex(DoppioError, "no such workspace; there are"):
                CliRunner().invoke(app, ["export", "Nowhere", path], catch_exceptions=False)
