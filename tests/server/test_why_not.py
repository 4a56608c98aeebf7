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
