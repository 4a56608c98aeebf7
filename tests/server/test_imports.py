"""Files in: what becomes of each, versions, labels that move, and what is left alone."""

import io
import json
import shutil
import zipfile
from unittest import mock

import numpy as np
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import call_command
from django.db import DataError
from PIL import Image

from doppio.core.progress import Silent
from doppio.imports import services as imports
from doppio.imports.models import Import, ImportedFile
from doppio.jobs.models import Job
from doppio.library.corpus import corpus_of
from doppio.library.files import file_digest, pages_of, place_of
from doppio.library.models import Document, SourceFile
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.services import core_questions
from doppio.questions.writing import set_for
from doppio.recipes.builds import builder, open_pipeline
from doppio.recipes.services import core_recipe, save_recipe
from doppio.trials.services import latest_trial, measure_recipe
from tests.core.corpus import recipe
from tests.core.made_files import BLUE, GREEN, RED, inline_picture, make_docx, make_pdf, make_picture
from tests.server.committed import Committed
from tests.server.workspace import make_workspace

WIND = "# Wind\n\nThe gondola stops at 18 metres a second. It reopens after 20 minutes of calm."


class Imports(Committed):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"

    def send(self, method, tail, body=None, expected=200):
        given = {} if method == "get" else {"data": json.dumps(body), "content_type": "application/json"}
        answer = getattr(self.client, method)(self.root + tail, **given)
        self.assertEqual(answer.status_code, expected, answer.content)
        return answer.json() if answer.content else None

    def staged(self, files):
        number = self.send("post", "imports", None, 201)["id"]
        answer = self.client.post(
            f"{self.root}imports/{number}/files",
            {"files": [SimpleUploadedFile("x", data) for data in files.values()], "names": list(files)},
        )
        self.assertEqual(answer.status_code, 201, answer.content)
        return number

    def bring_in(self, files):
        number = self.staged(files)
        self.send("post", f"imports/{number}/start", None, 202)
        call_command("work", once=True)
        found = self.send("get", f"imports/{number}")
        self.assertEqual(found["job"]["state"], "done", found["job"]["message"])
        return {row["name"]: row for row in found["files"]}, found["job"]["message"]

    def test_every_format_and_every_reason_stands_in_its_row(self):
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w") as file:
            file.writestr("lift/ice.md", "# Ice\n\nIce on line D is knocked off with a pole.")
            file.writestr("lift/inner.zip", b"PK")
            file.writestr("picture.png", b"x")
        rows, said = self.bring_in(
            {
                "new/wind.md": WIND.encode(),
                "new/fog.pdf": make_pdf([["Fog rules", "In fog the line is slowed to four metres a second."]]),
                "new/staff.docx": make_docx([("Heading 1", "Staff"), ("Normal", "A day begins at six.")]),
                "pack.zip": archive.getvalue(),
                "broken.zip": b"PK\x03\x04 nothing",
                "bad.txt": b"caf\xe9 au lait",
                "movie.mov": b"x",
                "empty.md": b"",
                "scan.pdf": make_pdf([[]], picture=True),
                "secret.docx": b"\xd0\xcf\x11\xe0" + bytes(512),
            }
        )
        states = {name: row["state"] for name, row in rows.items()}
        added = ("new/wind.md", "new/fog.pdf", "new/staff.docx", "pack/lift/ice.md")
        self.assertEqual({states[name] for name in added}, {"added"})
        self.assertEqual(states["pack.zip"], "opened")
        for name, reason in {
            "pack/lift/inner.zip": "an archive inside of an archive",
            "pack/picture.png": "no picture that can be read",
            "broken.zip": "a broken archive",
            "bad.txt": "line 1: byte 0xe9 is not UTF-8",
            "movie.mov": "unknown ending '.mov'",
            "empty.md": "empty",
            "scan.pdf": "scanned, and no words could be read on its 1 pages",
            "secret.docx": "encrypted",
        }.items():
            self.assertEqual(rows[name]["state"], "refused", name)
            self.assertIn(reason, rows[name]["reason"])
        self.assertEqual(said, "12 files: 4 added, 8 refused.")
        names = set(self.workspace.documents.values_list("name", flat=True))
        self.assertTrue(set(added) <= names)

    def test_the_same_content_is_recognised_under_any_name_and_in_any_format(self):
        self.bring_in({"a.md": WIND.encode()})
        rows, said = self.bring_in(
            {"a.md": WIND.encode(), "copy/b.md": WIND.encode(), "c.html": b"<h1>Wind</h1><p>The gondola stops at 18 "
             b"metres a second. It reopens after 20 minutes of calm.</p>"}
        )  # fmt: skip
        self.assertEqual({row["state"] for row in rows.values()}, {"same"})
        self.assertEqual(rows["copy/b.md"]["reason"], "the same content as a.md")
        self.assertEqual(rows["c.html"]["reason"], "the same text as a.md")
        self.assertEqual(self.workspace.documents.filter(title="Wind").count(), 1)
        self.assertIn("3 there already", said)

    def test_a_changed_file_is_a_new_version_and_labels_move_by_their_quotes(self):
        self.bring_in({"a.md": WIND.encode()})
        row = self.workspace.documents.get(name="a.md")
        moving, losing = (
            self.label(row, "It reopens after 20 minutes of calm"),
            self.label(row, "at 18 metres a second"),
        )
        text = WIND.replace("# Wind", "# Wind\n\nIn force since May.").replace("18 metres", "16 metres")
        rows, said = self.bring_in({"a.md": text.encode()})
        self.assertEqual(rows["a.md"]["state"], "replaced")
        self.assertEqual((rows["a.md"]["counts"]["labels_moved"], rows["a.md"]["counts"]["labels_lost"]), (1, 1))
        self.assertIn("1 labels lost their place", said)
        moving.refresh_from_db()
        now = Document.objects.get(pk=row.pk)
        self.assertEqual((now.version, now.pk), (2, row.pk))
        self.assertEqual(now.text[moving.start : moving.end], "It reopens after 20 minutes of calm")
        lost = self.send("get", "labels/lost")
        self.assertEqual([entry["id"] for entry in lost], [losing.pk])
        self.assertIn("16 metres a second", lost[0]["suggestion"]["text"])
        # A question whose label waits is no question without an answer.
        self.assertNotIn(losing.question.identity, [question.id for question in core_questions(self.workspace)])
        place = lost[0]["suggestion"]
        self.send("put", f"labels/{losing.pk}", {"document": row.pk, "start": place["start"], "end": place["end"]})
        self.assertEqual(self.send("get", "labels/lost"), [])
        versions = self.send("get", f"documents/{row.pk}")["versions"]
        self.assertEqual([(one["version"], one["labels_lost"]) for one in versions], [(2, 1), (1, 0)])

    def label(self, row, quote):
        at = row.text.index(quote)
        count = Question.objects.count()
        question = Question.objects.create(
            workspace=self.workspace, set=set_for(self.workspace), identity=f"n{count}", text="?", position=count + 10
        )
        return AnswerSpan.objects.create(question=question, document=row, start=at, end=at + len(quote))

    def test_labels_of_a_removed_document_wait_and_come_back_with_it(self):
        self.bring_in({"a.md": WIND.encode()})
        row = self.workspace.documents.get(name="a.md")
        span = self.label(row, "at 18 metres a second")
        self.assertEqual(self.send("post", "documents", {"documents": [row.pk]})["removed"], 1)
        span.refresh_from_db()
        self.assertEqual((span.document, span.lost, span.quote), (None, True, "at 18 metres a second"))
        self.assertFalse(place_of(file_digest(WIND.encode())).exists())
        self.bring_in({"a.md": WIND.encode()})
        span.refresh_from_db()
        self.assertFalse(span.lost)
        self.assertEqual(span.document.text[span.start : span.end], "at 18 metres a second")

    def test_a_question_whose_only_label_was_removed_waits_for_another(self):
        self.bring_in({"a.md": WIND.encode()})
        span = self.label(self.workspace.documents.get(name="a.md"), "20 minutes")
        before = len(core_questions(self.workspace))
        self.send("delete", f"labels/{span.pk}", None, 204)
        self.assertTrue(Question.objects.filter(pk=span.question_id).exists())
        self.assertEqual(
            len(core_questions(self.workspace)), before - 1, "it is not taken for one that has no answer"
        )

    def test_rows_of_a_table_are_documents_and_only_changed_ones_get_a_version(self):
        lines = [
            {"nr": n, "fault": f"Door {n} does not close.", "fix": f"Clean rail {n}.", "line": "B"} for n in (1, 2, 3)
        ]
        data = "\n".join(json.dumps(line) for line in lines).encode()
        fields = {"matched": ["fault"], "carried": ["fix"], "title": "", "id": "nr"}
        self.bring_in_rows(data, fields)
        first = self.workspace.documents.get(name="faults.jsonl#1")
        self.assertEqual((first.text, first.carried), ("Door 1 does not close.", {"fix": "Clean rail 1."}))
        self.assertEqual(first.metadata, {"line": "B"})
        lines[1]["fault"] = "Door 2 rattles."
        data = "\n".join(json.dumps(line) for line in lines[:2]).encode()
        row = self.bring_in_rows(data, fields)
        self.assertEqual((row["counts"]["replaced"], row["counts"]["removed"], row["counts"]["kept"]), (1, 1, 1))
        self.assertEqual(self.workspace.documents.get(name="faults.jsonl#2").version, 2)

    def bring_in_rows(self, data, fields):
        number = self.staged({"faults.jsonl": data})
        row = self.send("get", f"imports/{number}")["files"][0]
        seen = self.send("get", f"imports/{number}/files/{row['id']}/fields")
        self.assertEqual([field["name"] for field in seen], ["nr", "fault", "fix", "line"])
        self.send("put", f"imports/{number}/files/{row['id']}/fields", {"fields": fields})
        self.send("post", f"imports/{number}/start", None, 202)
        call_command("work", once=True)
        return self.send("get", f"imports/{number}")["files"][0]

    def test_a_choice_of_fields_that_is_wrong_is_named(self):
        number = self.staged({"faults.csv": b"nr,fault\n1,Door\n"})
        row = self.send("get", f"imports/{number}")["files"][0]
        tail = f"imports/{number}/files/{row['id']}/fields"
        answer = self.send("put", tail, {"fields": {"matched": []}}, 400)
        self.assertIn("matched: empty", answer["detail"])
        self.send("put", tail, {"fields": {"matched": ["nothing"]}})
        self.send("post", f"imports/{number}/start", None, 202)
        call_command("work", once=True)
        row = self.send("get", f"imports/{number}")["files"][0]
        self.assertEqual(row["reason"], "no row has the field 'nothing'; there are nr, fault")

    def test_an_import_goes_on_where_it_was_killed(self):
        number = self.staged({f"{n}.md": f"# Note {n}\n\nText of note {n}.".encode() for n in range(5)})
        brought_in = Import.objects.get(pk=number)
        imports.start(brought_in, self.user)
        brought_in.refresh_from_db()
        real = imports.take_file

        def killed(workspace, name, *rest, **more):
            if name == "3.md":
                raise SystemExit
            return real(workspace, name, *rest, **more)

        with mock.patch.object(imports, "take_file", killed), self.assertRaises(SystemExit):
            imports.run(brought_in, Silent())
        self.assertEqual(brought_in.files.filter(state=ImportedFile.WAITING).count(), 2)
        self.assertIn("5 files: 5 added", imports.run(brought_in, Silent()))

    def test_an_import_can_be_cancelled_and_keeps_what_is_in(self):
        number = self.staged({f"{n}.md": f"# Note {n}\n\nText of note {n}.".encode() for n in range(3)})
        self.send("post", f"imports/{number}/start", None, 202)
        job = Import.objects.get(pk=number).job
        self.send("post", f"jobs/{job.pk}/cancel")
        call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.CANCELLED)
        self.assertEqual(Import.objects.get(pk=number).files.filter(state="waiting").count(), 3)

    def test_one_that_ended_badly_can_be_taken_up_again(self):
        number = self.staged({f"{n}.md": f"# Note {n}\n\nText of note {n}.".encode() for n in range(3)})
        first = self.send("post", f"imports/{number}/start", None, 202)
        with mock.patch.object(imports, "_open_archives", side_effect=OSError(28, "No space left on device")):
            call_command("work", once=True)
        found = self.send("get", f"imports/{number}")
        self.assertEqual(found["job"]["state"], "failed")
        self.assertIn("no space left", found["job"]["message"])
        again = self.send("post", f"imports/{number}/start", None, 202)
        self.assertNotEqual(again["id"], first["id"])
        self.assertEqual(self.send("post", f"imports/{number}/start", None, 202)["id"], again["id"])
        call_command("work", once=True)
        found = self.send("get", f"imports/{number}")
        self.assertEqual({row["state"] for row in found["files"]}, {"added"})
        self.assertEqual(self.send("post", f"imports/{number}/start", None, 202)["id"], again["id"])

    def test_bytes_that_another_workspace_waits_for_stay(self):
        other, _ = make_workspace("Elsewhere")
        theirs = imports.stage(imports.begin(other, None), "theirs.md", 1, io.BytesIO(WIND.encode()))
        self.bring_in({"a.md": WIND.encode()})
        self.bring_in({"copy.md": WIND.encode()})
        self.staged({"b.md": WIND.encode()})
        imports.begin(self.workspace, self.user)
        gone = self.workspace.documents.get(name="a.md")
        self.send("post", "documents", {"documents": [gone.pk]})
        self.assertTrue(place_of(theirs.digest).exists())
        imports.begin(other, None)
        self.assertFalse(place_of(theirs.digest).exists())

    def test_poison_ends_in_its_own_row_and_what_comes_after_is_read(self):
        def packed(method, name="a.md"):
            target = io.BytesIO()
            with zipfile.ZipFile(target, "w", method) as archive:
                archive.writestr(name, "# A\n\n" + "text of a page. " * 50)
            data = bytearray(target.getvalue())
            at = data.index(name.encode()) + len(name) + 12
            data[at : at + 8] = b"\xff" * 8
            return bytes(data)

        lines = {
            "nul.jsonl": '{"id": "a\\u0000b", "text": "NUL \\u0000 here", "carried": {"k\\u0000": "v\\u0000"}}',
            "half.jsonl": r'{"id": "\ud800", "text": "half \udfff", "metadata": {"\ud800": {"\ud800": 1}}}',
            "long.jsonl": json.dumps({"id": "x" * 501, "text": "too long a name"}),
            "deep.jsonl": '{"id": "a", "text": "x", "metadata": ' + "[" * 100_000 + "]" * 100_000 + "}",
            "digits.jsonl": '{"id": "a", "text": "x", "metadata": {"n": ' + "9" * 5000 + "}}",
        }
        given = {name: line.encode() for name, line in lines.items()}
        given |= {"deflate.zip": packed(zipfile.ZIP_DEFLATED), "lzma.zip": packed(zipfile.ZIP_LZMA)}
        given |= {"spans.html": b"<span>" * 30_000 + b"<p>x</p>"}
        rows, _ = self.bring_in({**given, "zz good.md": WIND.encode()})
        self.assertEqual(rows["zz good.md"]["state"], "added")
        for name, reason in {
            "long.jsonl": "line 1: id: 501 characters; 1 to 400 identify a row",
            "deep.jsonl": "nested too deeply",
            "digits.jsonl": "line 1: not JSON",
            "deflate/a.md": "cannot be unpacked",
            "lzma/a.md": "cannot be unpacked",
            "spans.html": "nested too deeply",
        }.items():
            self.assertEqual(rows[name]["state"], "refused", rows[name])
            self.assertIn(reason, rows[name]["reason"])
        kept = self.workspace.documents.get(name="nul.jsonl#ab")
        self.assertEqual((kept.text, kept.carried), ("NUL  here", {"k": "v"}))
        half = self.workspace.documents.get(name="half.jsonl#\N{REPLACEMENT CHARACTER}")
        self.assertEqual(half.text, "half \N{REPLACEMENT CHARACTER}")

    def test_what_cannot_be_kept_for_a_reason_nobody_thought_of_stops_nothing(self):
        real = imports.take_file

        def odd(workspace, name, *rest, **more):
            if name == "a.md":
                raise DataError("value too long for type character varying(500)")
            return real(workspace, name, *rest, **more)

        with mock.patch.object(imports, "take_file", odd), self.assertLogs("doppio.imports.services"):
            rows, _ = self.bring_in({"a.md": b"# A\n\nx", "b.md": b"# B\n\ny"})
        self.assertIn("cannot be kept (DataError: value too long", rows["a.md"]["reason"])
        self.assertEqual(rows["b.md"]["state"], "added")

    def test_names_that_point_elsewhere_are_tamed_and_a_started_import_takes_no_more(self):
        number = self.staged({"../../etc/passwd.txt": b"nothing here"})
        self.assertEqual(self.send("get", f"imports/{number}")["files"][0]["name"], "etc/passwd.txt")
        self.send("post", f"imports/{number}/start", None, 202)
        answer = self.client.post(
            f"{self.root}imports/{number}/files", {"files": [io.BytesIO(b"x")], "names": ["a.md"]}
        )
        self.assertEqual(answer.status_code, 400)

    def test_pictures_that_a_page_shows_come_in_with_it_and_are_drawn_from_it(self):
        page = b'<h1>Tower 7</h1><p>Four bolts.</p><img src="img/red.png" alt="Red bolts"><img src="img/gone.png">'
        files = {
            "t/img/red.png": make_picture(RED),
            "t/tower.html": page,
            "t/notes.md": b"# Notes\n\n![](img/red.png)",
            "t/alone.png": make_picture(BLUE),
            "t/empty.html": b'<img src="img/torn.png">',
            "t/img/torn.png": make_picture(GREEN),
        }
        rows, said = self.bring_in(files)
        states = {name: row["state"] for name, row in rows.items()}
        self.assertEqual(states.pop("t/img/red.png"), "shown")
        # A page that cannot be read has shown nothing.
        self.assertEqual(states.pop("t/empty.html"), "refused")
        self.assertEqual(set(states.values()), {"added"})
        self.assertEqual(rows["t/img/red.png"]["reason"], "shown in t/tower.html")
        self.assertIn("it shows img/gone.png, which is not among", rows["t/tower.html"]["reason"])
        self.assertEqual(said, "6 files: 4 added, 1 refused, 1 shown in a page.")
        for name in ("t/tower.html", "t/notes.md"):
            number = self.workspace.documents.get(name=name).pk
            shown = self.client.get(f"{self.root}documents/{number}/figures/1")
            with Image.open(io.BytesIO(shown.content)) as picture:
                self.assertEqual(picture.convert("RGB").getpixel((100, 40)), RED)
        for name in ("t/img/red.png", "t/tower.html"):
            self.assertFalse(place_of(file_digest(files[name])).exists(), name)
        again, _ = self.bring_in(files)
        self.assertEqual({again[name]["state"] for name in ("t/tower.html", "t/notes.md")}, {"same"})
        self.assertEqual(again["t/img/red.png"]["state"], "shown")
        other, _ = self.bring_in({**files, "t/img/red.png": make_picture(BLUE, (90, 60))})
        self.assertEqual({other[name]["state"] for name in ("t/tower.html", "t/notes.md")}, {"replaced"})

    def test_pictures_of_pages_wait_for_all_of_them_though_the_import_is_killed_in_between(self):
        given = {f"{n}.md": f"# Note {n}\n\n![Plan](red.png)".encode() for n in range(3)}
        number = self.staged({"red.png": make_picture(RED), **given})
        brought_in = Import.objects.get(pk=number)
        imports.start(brought_in, self.user)
        brought_in.refresh_from_db()
        real = imports.take_file

        def killed(workspace, name, *rest, **more):
            if name == "1.md":
                raise SystemExit
            return real(workspace, name, *rest, **more)

        with mock.patch.object(imports, "take_file", killed), self.assertRaises(SystemExit):
            imports.run(brought_in, Silent())
        self.assertEqual(brought_in.files.get(name="red.png").state, ImportedFile.SHOWN)
        # Meanwhile somebody else has no use for the same picture any more.
        self.bring_in({"other.png": make_picture(RED)})
        self.send("post", "documents", {"documents": [self.workspace.documents.get(name="other.png").pk]})
        self.assertIn("4 files: 3 added, 1 shown in a page", imports.run(brought_in, Silent()))
        self.assertEqual([len(self.workspace.documents.get(name=name).pictures) for name in given], [1, 1, 1])
        self.assertFalse(place_of(file_digest(make_picture(RED))).exists())

    def test_pictures_of_a_document_are_told_drawn_and_stand_with_their_passages(self):
        page = "<h1>Tower 7</h1><p>Four bolts hold it.</p><figure>{}<figcaption>Anchor plan</figcaption></figure>"
        self.bring_in({"tower.html": page.format(inline_picture(make_picture(RED), "Four red bolts")).encode()})
        row = Document.objects.get(name="tower.html")
        told = self.send("get", f"documents/{row.pk}")
        [figure] = told["figures"]
        self.assertEqual((figure["alt"], figure["caption"], figure["width"]), ("Four red bolts", "Anchor plan", 120))
        self.assertEqual(told["text"][figure["start"] : figure["end"]], "Four red bolts")
        for _ in range(2):
            answer = self.client.get(f"{self.root}documents/{row.pk}/figures/1")
            self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "image/png"))
            self.assertEqual(Image.open(io.BytesIO(answer.content)).convert("RGB").getpixel((100, 40)), RED)
        for number in (0, 2):
            self.send("get", f"documents/{row.pk}/figures/{number}", expected=404)
        measure_recipe(save_recipe(self.workspace, recipe(rerank=None).body), Silent())
        asked = self.send("post", "ask", {"text": "Four red bolts of tower 7"})
        pieces = [piece["figures"] for piece in asked["handed"]["pieces"] if piece["document"] == row.pk]
        self.assertIn([figure], pieces)
        holding = [chunk for chunk in asked["chunks"] if chunk["figures"]]
        self.assertEqual({chunk["document"] for chunk in holding}, {row.pk})
        self.assertTrue(all(chunk["start"] <= figure["start"] < chunk["end"] for chunk in holding))
        # What an older reader read is read anew, although the file is the same, and then left alone.
        same = {"tower.html": page.format(inline_picture(make_picture(RED), "Four red bolts")).encode()}
        Document.objects.filter(pk=row.pk).update(pictures=[], content="")
        self.assertEqual(self.bring_in(same)[0]["tower.html"]["state"], "same")
        SourceFile.objects.update(edition=0)
        self.assertEqual(self.bring_in(same)[0]["tower.html"]["state"], "replaced")
        self.assertEqual(len(self.send("get", f"documents/{row.pk}")["figures"]), 1)
        SourceFile.objects.update(edition=0)
        self.assertEqual(self.bring_in(same)[0]["tower.html"]["state"], "same")
        # Another picture under the same words is another version.
        self.bring_in({"tower.html": page.format(inline_picture(make_picture(BLUE, (60, 60)))).encode()})
        answer = self.client.get(f"{self.root}documents/{row.pk}/figures/1")
        self.assertEqual(Image.open(io.BytesIO(answer.content)).convert("RGB").getpixel((50, 30)), BLUE)
        self.assertEqual(self.send("get", f"documents/{row.pk}")["version"], 3)

    def test_pages_are_shown_as_pictures(self):
        self.bring_in({"fog.pdf": make_pdf([["Fog rules"], ["Second page"]])})
        row = self.workspace.documents.get(name="fog.pdf")
        self.assertEqual(self.send("get", f"documents/{row.pk}")["pages"], 2)
        for _ in range(2):
            answer = self.client.get(f"{self.root}documents/{row.pk}/pages/2")
            self.assertEqual((answer.status_code, answer.content[:4]), (200, b"\x89PNG"))
        self.assertEqual(self.client.get(f"{self.root}documents/{row.pk}/pages/3").status_code, 400)
        drawn = pages_of(row.file.digest)
        self.assertTrue((drawn / "2.png").exists())
        self.send("post", "documents", {"documents": [row.pk]})
        self.assertFalse(drawn.exists())


class OnlyTheirOwn(Committed):
    """Adding, changing and removing a document touches its own entries; the whole equals a fresh build."""

    def test_entries_of_other_documents_are_taken_over_and_all_equals_a_fresh_build(self):
        workspace, user = make_workspace()
        saved = save_recipe(workspace, recipe(chunking={"rule": "fixed-window", "unit": "words", "size": 9}).body)
        measure_recipe(saved, Silent())
        core = core_recipe(saved)
        case = Imports()
        case.workspace, case.user, case.client = workspace, user, self.client
        case.root = f"/api/workspaces/{workspace.pk}/"
        self.client.force_login(user)
        case.bring_in({"aa.md": WIND.encode(), "zz.md": b"# Zeal\n\nA last document about ropes and pulleys."})
        self.assertIsNotNone(latest_trial(saved), "the recipe in force is measured after an import")
        gone = workspace.documents.get(name="wind.md")
        case.send("post", "documents", {"documents": [gone.pk]})
        call_command("work", once=True)
        keys = builder().keys(corpus_of(workspace), core)
        listed = builder().lists.read(keys.chunks)
        self.assertEqual(len(listed.parts), 2, "one segment with what was there, one with what came")
        self.assertFalse(any((part.documents < 0).any() for part in listed.parts), "the worn one was written anew")
        kept = open_pipeline(workspace, core)
        for place in builder().store.root.iterdir():
            shutil.rmtree(place) if place.is_dir() else place.unlink()
        measure_recipe(saved, Silent())
        self.assertEqual(len(builder().lists.read(keys.chunks).parts), 1)
        fresh = open_pipeline(workspace, core)
        for name, column in fresh.chunks.columns().items():
            np.testing.assert_array_equal(kept.chunks.columns()[name], column, name)
        everything = range(len(fresh.chunks))
        # Batches are composed differently, which moves the last bits of a float.
        vectors = [pipeline.branches["dense"].index.vectors(everything) for pipeline in (kept, fresh)]
        np.testing.assert_allclose(*vectors, atol=1e-5)
        for question in ("ropes and pulleys", "E-417", "a dog and a puppy"):
            one, other = kept.ask(question).stage("sparse"), fresh.ask(question).stage("sparse")
            np.testing.assert_array_equal(one.chunks, other.chunks)
            np.testing.assert_array_equal(one.scores, other.scores)
