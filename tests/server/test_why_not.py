"""Why a passage is not handed on, as the interface asks for it."""

from django.test import TestCase

from doppio.core.trace import Trace
from tests.server.workspace import make_workspace, measured


class WhyNot(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Why")
        cls.recipe, cls.trial = measured(cls.space, rerank=None, select={"k": 1, "budget_tokens": 1000})

    def setUp(self):
        self.client.force_login(self.user)

    def get(self, status=200, **given):
        answer = self.client.get(f"/api/workspaces/{self.space.pk}/why-not", given)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_the_answer_of_a_question_and_any_chunk_of_it_are_told(self):
        for row in self.trial.rows.filter(question__unanswerable=False).select_related("question"):
            told = self.get(question=row.question_id)
            self.assertEqual(told["left"] == "", row.cause == "delivered")
            context = Trace.from_json(row.trace).stage("fused")
            second = int(context.chunks[1])
            told = self.get(question=row.question_id, chunk=second)
            self.assertEqual((told["chunk"], told["left"]), (second, "fused"))
            needed = {change["path"]: change for change in told["changes"]}
            self.assertEqual((needed["select.k"]["needed"], needed["select.k"]["title"]),
                             (2, "Context: at most, in chunks"))  # fmt: skip
            typed = self.get(text=row.question.text, chunk=second)
            self.assertEqual(typed["stood"], told["stood"])

    def test_any_stretch_of_a_document_is_told_by_the_chunks_that_hold_some_of_it(self):
        row = self.trial.rows.filter(question__identity="q1").get()
        span = row.question.spans.select_related("document").get()
        stretch = {"document": span.document_id, "start": span.start + 3, "end": span.start + 6}
        told, own = self.get(question=row.question_id, **stretch), self.get(question=row.question_id)
        self.assertEqual((told["chunk"], told["left"], told["stood"]), (own["chunk"], own["left"], own["stood"]))
        typed = self.get(text="What is E-417?", document=span.document_id, start=0, end=2)
        self.assertEqual(typed["document"], own["document"])
        for wrong, said in (
            ({"start": "x", "end": 3}, "start: 'x' is not a whole number"),
            ({"start": 10**6, "end": 10**6 + 1}, "no chunk holds anything between"),
            ({"end": 3}, "start: '' is not"),
        ):
            refused = self.get(400, question=row.question_id, document=span.document_id, **wrong)
            self.assertIn(said, refused["detail"])
        self.get(404, question=row.question_id, document=0, start=0, end=1)

    def test_conditions_of_the_question_hold(self):
        question = self.space.questions.get(identity="q2")
        question.only = "document is wind*"
        question.save()
        told = self.get(question=question.pk)
        self.assertEqual(told["left"], "branches")
        self.assertEqual({one["rank"] for one in told["stood"] if one["kind"] in ("sparse", "dense")}, {None})
        question.only = ""
        question.save()

    def test_what_cannot_be_told_is_refused(self):
        empty = self.space.questions.get(identity="q4").pk
        for given, told in (
            ({}, "name a labelled question"),
            ({"text": "gale"}, "name one"),
            ({"question": empty}, "no chunk holds an answer"),
            ({"text": "gale", "chunk": "x"}, "is not the number of a chunk"),
            ({"text": "gale", "chunk": 10**6}, "is not between 0 and"),
        ):
            self.assertIn(told, self.get(400, **given)["detail"])
        self.get(404, question=10**9)
