"""Files of questions: looked at, mapped, mended, written, and read again as they were."""

import csv
import io
import json

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from doppio.library.models import Event
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.services import core_questions
from doppio.questions.sets import make_set
from tests.server.workspace import QUESTIONS, make_workspace, measured


class Files(TestCase):
    def setUp(self):
        self.workspace, self.user = make_workspace()
        self.client.force_login(self.user)
        self.at = f"/api/workspaces/{self.workspace.pk}/question-sets"
        self.set = make_set(self.workspace, "From files")

    def send(self, name="q.csv", data="", qrels=None, status=200, **options):
        options = {"set": self.set.pk, **options}
        body = {"options": json.dumps(options)}
        if name:
            body["file"] = SimpleUploadedFile(name, data.encode())
        if qrels is not None:
            body["qrels"] = SimpleUploadedFile("j.qrels", qrels.encode())
        response = self.client.post(f"{self.at}/import", body)
        self.assertEqual(response.status_code, status, response.content[:400])
        return response.json()

    def labels(self, text):
        spans = AnswerSpan.objects.filter(question__set=self.set, question__text=text).select_related("document")
        return [
            (s.document.name, None if s.start is None else s.document.text[s.start : s.end], s.grade) for s in spans
        ]

    def out(self, form, number=None, query=""):
        response = self.client.get(f"{self.at}/{number or self.set.pk}/export?form={form}{query}")
        self.assertEqual(response.status_code, 200)
        return b"".join(response.streaming_content).decode()

    def test_a_look_writes_nothing_and_tells_what_would_be_written(self):
        said = self.send(data="question,document,quote\nMay dogs ride?,dogs.html,A dog rides\nAnd cats?,,\n")
        self.assertEqual((said["questions"], said["labels"], said["waiting"], said["wrong"]), (2, 1, 1, []))
        self.assertEqual((said["columns"]["question"], said["columns"]["start"]), ("question", ""))
        self.assertEqual((self.set.questions.count(), said["written"]), (0, None))

    def test_columns_are_chosen_and_rows_of_one_question_are_its_labels(self):
        rows = "Was;Wo;Zitat;Note\nDogs?;dogs.html;A dog rides;2\nDogs?;wind.md;;1\n"
        columns = {"question": "Was", "document": "Wo", "quote": "Zitat", "grade": "Note"}
        self.send(data=rows, columns=columns, write=True)
        self.assertEqual(self.labels("Dogs?"), [("dogs.html", "A dog rides", 2.0), ("wind.md", None, 1.0)])
        said = self.send(data=rows, columns=columns, write=True)
        self.assertEqual((said["questions"], said["known"], said["labels"], said["known_labels"]), (0, 1, 0, 2))
        self.send(data=rows.replace(";2", ";3"), columns=columns, write=True)
        self.assertEqual(self.labels("Dogs?"), [("wind.md", None, 1.0), ("dogs.html", "A dog rides", 3.0)])
        self.assertEqual(Event.objects.filter(kind="questions imported").count(), 3)

    def test_every_wrong_row_is_told_and_nothing_is_written_unless_it_is_left_out(self):
        rows = (
            "id,question,document,quote,grade\n"
            "a,May dogs ride?,dogs.html,A dog rides,1\n"
            "b,,dogs.html,A dog rides,1\n"
            "c,Snow?,snow.md,,1\n"
            "d,Cats?,dogs.html,A cat rides,1\n"
            "e,Grade?,dogs.html,A dog rides,best\n"
            "f,More?,dogs.html,A dog rides,7\n"
            "a,Other words,,,\n"
            "q1,Of another set,,,\n"
        )
        said = self.send(data=rows)
        wrong = {(one["line"], one["field"]): one["message"] for one in said["wrong"]}
        self.assertEqual(
            sorted(wrong),
            [(3, "question"), (4, "document"), (5, "quote"), (6, "grade"), (7, "grade"), (8, "id"), (9, "id")],
        )
        self.assertIn("'snow.md' is not among the documents", wrong[4, "document"])
        self.assertIn("is not between 0 and 3", wrong[7, "grade"])
        self.assertIn("of another set", wrong[9, "id"])
        self.assertIn("7 lines are wrong", self.send(data=rows, write=True, status=400)["detail"])
        self.assertEqual(self.set.questions.count(), 0)
        said = self.send(data=rows, write=True, skip=True)
        self.assertEqual(said["written"], {"questions": 4, "labels": 1})

    def test_figures_that_are_none_are_told_by_their_fields(self):
        rows = (
            "question,document,start,end,grade\n"
            "Not a number?,dogs.html,0,4,nan\n"
            "Below?,dogs.html,0,4,-1\n"
            "Raised?,dogs.html,²,4,1\n"
            f"Long?,dogs.html,{'9' * 5000},4,1\n"
        )
        said = self.send(data=rows, qrels=f"q1 0 wind.md nan\nq1 0 wind.md:0-{'9' * 5000} 1\n")
        self.assertEqual(
            sorted((one["line"], one["field"]) for one in said["wrong"]),
            [(1, "grade"), (2, "document"), (2, "grade"), (3, "grade"), (4, "start"), (5, "start")],
        )

    def test_a_quote_that_stands_in_several_places_is_asked_about(self):
        document = self.workspace.documents.get(name="wind.md")
        self.assertGreater(document.text.count("mean"), 1)
        rows = "question,document,quote\nWhat is it?,wind.md,mean\n"
        (doubt,) = self.send(data=rows)["doubts"]
        self.assertEqual(len(doubt["places"]), document.text.count("mean"))
        self.assertIn("several places", self.send(data=rows, write=True, status=400)["detail"])
        self.send(data=rows, write=True, choices={doubt["key"]: "2"})
        span = AnswerSpan.objects.get(question__set=self.set)
        self.assertEqual((span.start, span.end), (doubt["places"][1]["start"], doubt["places"][1]["end"]))
        self.send(data=rows, write=True, choices={doubt["key"]: "all"})
        self.assertEqual(len(self.labels("What is it?")), len(doubt["places"]))

    def test_quotes_are_found_though_marks_and_white_space_are_written_otherwise(self):
        self.send(data="question,document,quote\nDogs?,DOGS,A\u00a0dog  ri\u00addes\n", write=True)
        self.assertEqual(self.labels("Dogs?"), [("dogs.html", "A dog rides", 1.0)])

    def test_offsets_count_in_the_given_or_in_the_shown_text(self):
        from doppio.core.formats.documents import read_file
        from doppio.library.services import store_documents

        store_documents(self.workspace, read_file(b"one\r\ntwo\r\nthree", "lines.txt"))
        rows = "question,document,start,end\n{},lines.txt,{},{}\n"
        self.send(data=rows.format("Given?", 10, 15), write=True)
        self.send(data=rows.format("Shown?", 8, 13), write=True, offsets="canonical")
        self.assertEqual(self.labels("Given?"), self.labels("Shown?"))
        self.assertEqual(self.labels("Shown?"), [("lines.txt", "three", 1.0)])
        self.assertIn('"start": 10, "end": 15', self.out("jsonl"))

    def test_topics_and_judgements_of_trec(self):
        topics = "<top>\n<num> Number: 7\n<title> May dogs\nride?\n<desc> x\n</top>\n<top><title>No number</top>\n"
        qrels = "7 0 dogs.html 2\n7 0 wind.md 0\n8 0 wind.md 1\n7 0 dogs.html\nq1 0 wind.md:0-4 1\n"
        said = self.send("topics.txt", topics, qrels, skip=True, write=True)
        self.assertEqual(
            sorted((one["line"], one["field"]) for one in said["wrong"]), [(3, "question"), (4, "line"), (7, "id")]
        )
        self.assertEqual(self.labels("May dogs ride?"), [("dogs.html", None, 2.0), ("wind.md", None, 0.0)])
        # Judgements also go to questions that are there already.
        self.assertEqual(Question.objects.get(identity="q1").spans.count(), 2)
        said = self.send("", "", "7 0 alarms.csv 1\n", write=True)
        self.assertEqual(said["written"], {"questions": 0, "labels": 1})

    def test_what_goes_out_comes_in_as_it_was(self):
        first = self.workspace.question_sets.first()
        Question.objects.filter(identity="q2").update(group="dogs")
        AnswerSpan.objects.create(
            question=Question.objects.get(identity="q3"), document=self.workspace.documents.get(name="dogs.html"),
            start=0, end=4, grade=0,
        )  # fmt: skip
        before = core_questions(self.workspace)
        groups = dict(self.workspace.questions.values_list("identity", "group"))
        for form in ("jsonl", "csv", "tsv"):
            file = self.out(form, first.pk)
            first.questions.all().delete()
            said = self.send(f"again.{form}", file, set=first.pk, write=True)
            self.assertEqual((said["wrong"], said["written"]["questions"]), ([], len(QUESTIONS)), form)
            self.assertEqual(core_questions(self.workspace), before, form)
            self.assertEqual(dict(self.workspace.questions.values_list("identity", "group")), groups)

    def test_judgements_for_a_cut_name_its_chunks(self):
        first = self.workspace.question_sets.first()
        response = self.client.get(f"{self.at}/{first.pk}/export?form=csv&recipe=1")
        self.assertIn("ask for the form qrels", response.json()["detail"])
        recipe, _ = measured(self.workspace)
        lines = self.out("qrels", first.pk, f"&recipe={recipe.pk}").splitlines()
        table = [line.split() for line in lines]
        self.assertEqual({row[0] for row in table}, {"q1", "q2", "q3"})
        document = self.workspace.documents.get(name="dogs.html")
        item = next(row[2] for row in table if row[0] == "q2")
        start, end = map(int, item.removeprefix("dogs.html:").split("-"))
        self.assertIn("A dog rides", document.text[start:end])
        self.assertEqual(self.out("qrels", first.pk).splitlines()[1], "q2 0 dogs.html 2")

    def test_signs_that_no_record_can_hold_are_taken_out(self):
        row = {"id": "a\x00b", "text": "What\ud800 is\x00 it?", "tags": ["t\x00"], "group": "g\x00", "answers": []}
        self.send("odd\x00.jsonl", json.dumps(row), write=True)
        made = self.set.questions.get()
        self.assertEqual((made.identity, made.text, made.tags, made.group), ("ab", "What\ufffd is it?", ["t"], "g"))
        self.send("odd.csv", "question,id,tags\nIs\x00 it?,c\x00d,u\x00\n", write=True)
        made = self.set.questions.get(identity="cd")
        self.assertEqual((made.text, made.tags), ("Is it?", ["u"]))

    def test_a_file_that_is_none_is_told(self):
        for name, data, said in (
            ("q.pdf", "x", "no file of questions"),
            ("q.csv", "a,b\n", "holds no questions"),
            ("q.csv", 'a,b\n"x', "line 2"),
            ("q.csv", "a,b\n1,2,3\n", "3 fields, but there are 2 columns"),
            ("q.jsonl", "{\n", "line 1: not JSON"),
        ):
            self.assertIn(said, self.send(name, data, status=400)["detail"])
        self.assertIn("no column", self.send(data="a,b\n1,2\n", columns={"question": "c"}, status=400)["detail"])

    def test_a_table_is_what_other_programs_read(self):
        self.send(data='question,document,quote\n"Is it ""long"",\nthen?",dogs.html,A dog rides\n', write=True)
        rows = list(csv.DictReader(io.StringIO(self.out("csv"))))
        self.assertEqual(rows[0]["question"], 'Is it "long", then?')
        self.assertEqual(rows[0]["quote"], "A dog rides")
