"""Asking by a picture over HTTP, as a person and as an assistant; scanned files as they are brought in."""

import base64
import json
import os
import tempfile
import time
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.files.uploadedfile import SimpleUploadedFile
from django.utils import timezone

from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.optical import ReadLine
from doppio.core.progress import Silent
from doppio.imports.services import _Files
from doppio.library.carrying import pack, unpack
from doppio.library.files import PageReadings, file_digest
from doppio.library.intake import ADDED, SAME, take_file
from doppio.library.models import Event
from doppio.library.pictures import forget_asked
from doppio.questions.exporting import exported
from doppio.questions.services import core_question
from doppio.questions.writing import add_label, set_for, write_question
from doppio.recipes.services import save_recipe
from doppio.serving.keys import Limits, make_key
from doppio.serving.services import publish
from doppio.trials.services import latest_trial, measure_recipe
from tests.core.corpus import recipe
from tests.core.made_files import inline_picture, make_picture
from tests.core.test_scanned import as_file, scan
from tests.core.test_shown import BRANCHES, EDITED, drawing, packed
from tests.server.committed import Committed
from tests.server.workspace import make_workspace

SHEETS = ("mast", "grip", "gate")


class ByPicture(Committed):
    def setUp(self):
        # What stands on them is read in other tests, which takes seconds.
        self.enterContext(mock.patch("doppio.library.pictures.words", return_value=[]))
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"

    def build(self):
        with BoundedReader() as reader:
            for name in SHEETS:
                page = f"<h1>Sheet</h1><p>Kept by the office, {name}.</p>{inline_picture(packed(drawing(name)))}"
                taken = take_file(self.workspace, f"{name}.html", page.encode(), reader)
                self.assertEqual(taken.state, ADDED)
        self.saved = save_recipe(self.workspace, recipe(branches=BRANCHES, rerank=None).body)
        measure_recipe(self.saved, Silent())

    def bring(self, data, name="cut.png"):
        return self.client.post(f"{self.root}asked-pictures", {"file": SimpleUploadedFile(name, data)})

    def ask(self, **body):
        return self.client.post(f"{self.root}ask", json.dumps(body), content_type="application/json")

    def test_a_person_and_an_assistant_ask_by_a_picture_alone_and_beside_words(self):
        self.build()
        for name in SHEETS:
            for how, edit in EDITED.items():
                with self.subTest(f"{name}, {how}"):
                    digest = self.bring(edit(drawing(name))).json()["picture"]
                    found = self.ask(text="", picture=digest).json()
                    documents = {one["document"] for one in found["chunks"]}
                    self.assertTrue(documents)
                    best = self.best(found)
                    self.assertEqual(best, self.workspace.documents.get(name=f"{name}.html").pk)
        seen = self.client.get(f"{self.root}asked-pictures/{digest}")
        self.assertEqual(seen.headers["Content-Type"], "image/png")
        both = self.ask(text="kept by the office, grip", picture=digest, share=0.1).json()
        self.assertEqual(self.best(both, "fused"), self.workspace.documents.get(name="grip.html").pk)
        self.an_assistant_sends_its_picture_with_the_question()

    def best(self, body, stage="shown"):
        rows = next(one for one in body["trace"]["stages"] if one["stage"] == stage)
        number = rows["chunks"][0]
        return next(one["document"] for one in body["chunks"] if one["number"] == number)

    def test_what_is_no_picture_and_what_is_gone_is_said(self):
        for data, name, reason in (
            (b"words", "a.png", "no picture that can be read"),
            (packed(drawing("x")), "a.pdf", "endings of pictures are"),
            (make_picture((1, 2, 3), (8000, 8000), compress_level=1), "a.png", "are more than 40 million"),
        ):
            answer = self.bring(data, name)
            self.assertEqual(answer.status_code, 400)
            self.assertIn(reason, answer.json()["detail"])
        save_recipe(self.workspace, recipe(branches=BRANCHES, rerank=None).body)
        gone = self.ask(text="", picture="0" * 40)
        self.assertEqual(gone.status_code, 400)
        self.assertIn("is not kept any more", gone.json()["detail"])
        self.assertEqual(self.ask(text=" ").status_code, 400)
        self.assertEqual(self.ask(text="", picture="../../etc/passwd").status_code, 400)
        self.assertEqual(self.client.get(f"{self.root}asked-pictures/..%2f..").status_code, 404)
        self.assertEqual(self.client.get(f"{self.root}asked-pictures/nothing").status_code, 400)

    def test_pictures_that_nobody_goes_back_to_are_forgotten(self):
        digest = self.bring(packed(drawing("old"))).json()["picture"]
        path = Path(settings.DOPPIO_FILES) / "asked" / digest
        forget_asked(self, timezone.now())
        self.assertTrue(path.exists())
        long_ago = time.time() - 40 * 24 * 3600
        os.utime(path, (long_ago, long_ago))
        forget_asked(self, timezone.now())
        self.assertFalse(path.exists())

    def test_a_picture_that_is_kept_with_a_question_is_measured_carried_and_comes_back(self):
        self.build()
        digest = self.bring(EDITED["half the size"](drawing("grip"))).json()["picture"]
        asked = write_question(self.workspace, "Which sheet is this?", into=set_for(self.workspace))
        grip = self.workspace.documents.get(name="grip.html")
        add_label(asked, grip, None, None, 1, self.user)

        def change(**body):
            return self.client.patch(f"{self.root}questions/{asked.pk}", json.dumps(body), "application/json")

        for wrong in ({"picture": "0" * 40}, {"picture": "x"}, {"share": 2}):
            self.assertEqual(change(**wrong).status_code, 400, wrong)
        kept = change(picture=digest, share=1.0)
        self.assertEqual((kept.json()["picture"], kept.json()["share"]), (digest, 1.0))
        self.assertEqual(self.best(self.pinned(asked)), grip.pk)
        # A trial asks it by its picture as a person does.
        measure_recipe(self.saved, Silent())
        [row] = [one for one in latest_trial(self.saved).rows.all() if one.question_id == asked.pk]
        self.assertEqual(row.ranks["shown"], 1)
        # It is kept as long as its question is.
        path = Path(settings.DOPPIO_FILES) / "asked" / digest
        os.utime(path, (0, 0))
        forget_asked(self, timezone.now())
        self.assertTrue(path.exists())
        lines = list(exported(asked.set, "jsonl"))
        told = next(json.loads(line) for line in lines if "Which sheet is this?" in line)
        self.assertEqual(base64.b64decode(told["picture"]), path.read_bytes())
        self.it_comes_back_with_its_question(asked, digest)
        self.it_is_read_from_a_file(told, path.read_bytes())

    def pinned(self, question):
        return self.client.get(f"{self.root}questions/{question.pk}").json()

    def it_comes_back_with_its_question(self, asked, digest):
        self.client.delete(f"{self.root}questions/{asked.pk}")
        event = Event.objects.get(kind="question removed")
        back = self.client.post(f"{self.root}events/{event.pk}/taken-back", "{}", "application/json")
        self.assertLess(back.status_code, 300, back.content)
        again = self.workspace.questions.get(text="Which sheet is this?")
        self.assertEqual((again.picture, again.share), (digest, 1.0))

    def it_is_read_from_a_file(self, told, data):
        row = {**told, "id": "other", "text": "And this one?"}
        file = SimpleUploadedFile("q.jsonl", json.dumps(row).encode())
        options = json.dumps({"set": set_for(self.workspace).pk, "write": True})
        done = self.client.post(f"{self.root}question-sets/import", {"file": file, "options": options})
        self.assertLess(done.status_code, 300, done.content[:400])
        read = self.workspace.questions.get(text="And this one?")
        self.assertEqual(read.share, 1.0)
        self.assertEqual(core_question(read).beside.picture, data)
        with tempfile.TemporaryDirectory() as place:
            pack(self.workspace, Path(place) / "one.zip")
            copy = unpack(Path(place) / "one.zip", self.user, "Copy")
        self.assertEqual(core_question(copy.questions.get(text="And this one?")).beside.picture, data)

    def an_assistant_sends_its_picture_with_the_question(self):
        published = publish(self.saved, "pictures", self.user)
        _, secret = make_key(published, "assistant", ["search"], Limits(), self.user)
        data = base64.b64encode(EDITED["half the size"](drawing("gate"))).decode()
        told = {"HTTP_AUTHORIZATION": f"Bearer {secret}", "content_type": "application/json"}
        found = self.client.post("/serve/pictures/search", json.dumps({"question": "", "picture_data": data}), **told)
        self.assertEqual(found.status_code, 200, found.content[:300])
        passage = found.json()["passages"][0]
        self.assertEqual(passage["document"], self.workspace.documents.get(name="gate.html").pk)
        self.assertEqual([figure["number"] for figure in passage["figures"]], [1])
        for body, reason in (
            ({"question": "", "picture_data": "%%%"}, "no base64"),
            ({"question": "", "picture_data": base64.b64encode(b"x").decode()}, "no picture"),
            ({"question": ""}, "send a picture"),
        ):
            answer = self.client.post("/serve/pictures/search", json.dumps(body), **told)
            self.assertEqual(answer.status_code, 400)
            self.assertIn(reason, answer.content.decode())


class Scans(Committed):
    def test_pages_are_read_once_with_their_own_progress_and_go_with_the_file(self):
        workspace, _ = make_workspace()
        data = as_file(scan(), "PDF", resolution=100)
        said = []

        class Watching(Silent):
            def start(self, step, total, unit):
                said.append((step, total, unit))

        with BoundedReader() as reader:
            PageReadings(file_digest(data)).put(1, [ReadLine("A jaw of 41 mm is replaced.", 0.93, (0, 0, 1, 0.1))])
            own = _Files(Watching(), 2)
            self.assertEqual(take_file(workspace, "scan.pdf", data, reader, progress=own).state, ADDED)
            own.next()
            own.next()
            self.assertEqual(take_file(workspace, "scan.pdf", data, reader).state, SAME)
            picture = as_file(scan(), "PNG")
            PageReadings(file_digest(picture)).put(1, [])
            self.assertEqual(take_file(workspace, "a.png", picture, reader).state, ADDED)
            other = as_file(scan(turn=0), "PNG")
            PageReadings(file_digest(other)).put(1, [])
            # Two pictures without words are not the same for having names alike.
            self.assertEqual(take_file(workspace, "b/a.png", other, reader).state, ADDED)
        steps = ("read files", "read scanned pages of scan.pdf", "read files")
        self.assertEqual([step for step, _, _ in said], list(steps))
        self.assertEqual([total for _, total, _ in said], [2, 1, 1])
        document = workspace.documents.get(name="scan.pdf")
        self.assertEqual(document.text, "A jaw of 41 mm is replaced.")
        self.assertEqual(document.metadata["reading confidence"], 0.93)
        self.assertEqual(document.pictures[0]["anchor"], [0, len(document.text)])
