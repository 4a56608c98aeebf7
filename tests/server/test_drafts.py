"""A draft beside the recipe in force: what it finds is what the recipe would find once it is kept."""

import copy

import numpy as np
from django.test import TestCase

from doppio.core.recipe.check import check
from doppio.recipes.opened import pipelines
from doppio.stages.draft.service import Drafts, drafted
from tests.server.workspace import make_workspace, measured


class Drafted(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Drafts")
        cls.recipe, cls.trial = measured(cls.space, select={"k": 1, "budget_tokens": 60})

    def setUp(self):
        self.client.force_login(self.user)

    def post(self, path, status=200, **body):
        answer = self.client.post(f"/api/workspaces/{self.space.pk}/{path}", body, "application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def draft(self, **changes):
        body = copy.deepcopy(self.recipe.body)
        for part, told in changes.items():
            body[part] = {**body[part], **told}
        return body

    def test_unchanged_it_is_the_trial_of_the_recipe(self):
        told = self.post("drafts", body=self.draft())
        self.assertEqual((told["measured"], told["moved"]), (told["questions"], []))
        self.assertEqual(told["ledger"], self.trial.ledger)
        self.assertEqual(told["delivered"], told["delivered_before"])
        for stage in told["stages"]:
            self.assertEqual(stage["in_play"], stage["before"])
            self.assertEqual(stage["in_play"], self.trial.levels[stage["stage"]])

    def test_a_change_is_what_it_is_once_it_is_kept(self):
        body = self.draft(select={"k": 4, "budget_tokens": 2000, "widening": {"kind": "whole-document"}})
        told = self.post("drafts", body=body)
        _, kept = measured(self.space, select=body["select"])
        self.assertEqual(told["ledger"], kept.ledger)
        self.assertEqual({one["stage"]: one["in_play"] for one in told["stages"]},
                         {name: level for name, level in kept.levels.items() if name != "documents"})  # fmt: skip
        moved = {one["id"]: (one["before"], one["now"]) for one in told["moved"]}
        now = dict(kept.rows.values_list("question_id", "cause"))
        for row in self.trial.rows.all():
            self.assertEqual(moved.get(row.question_id, (row.cause, row.cause)), (row.cause, now[row.question_id]))

    def test_how_much_passages_repeat_each_other_is_told(self):
        body = self.draft(select={"k": 3, "budget_tokens": 2000})
        told = self.post("drafts", body=body)["repeats"]
        pipeline = pipelines.get(self.space, check(body))
        own = []
        for row in self.space.questions.all():
            passed = pipeline.ask(row.text).stage("context").passed.tolist()
            vectors = [pipeline.branches["dense"].vectors_of([chunk])[0] for chunk in passed]
            unit = [vector / np.linalg.norm(vector) for vector in vectors]
            largest = [max(float(unit[b] @ unit[a]) for a in range(b)) for b in range(1, len(unit))]
            if largest:
                own.append(sum(largest) / len(largest))
        self.assertAlmostEqual(told, sum(own) / len(own), places=4)
        varied = self.draft(select={"k": 3, "budget_tokens": 2000, "diversity": {"kind": "vectors", "strength": 0.9}})
        self.assertLess(self.post("drafts", body=varied)["repeats"], told)
        self.assertIsNone(self.post("drafts", body=self.draft(select={"k": 1}))["repeats"])

    def test_it_goes_on_where_its_seconds_ended(self):
        draft = check(self.draft(select={"k": 2}))
        seen = []
        while not seen or seen[-1]["measured"] < seen[-1]["questions"]:
            seen.append(drafted(self.recipe, draft, seconds=0))
        self.assertEqual([one["measured"] for one in seen], list(range(1, len(seen) + 1)))
        self.assertEqual(seen[-1]["questions"], len(seen))

    def test_one_question_labelled_or_typed_is_asked_at_once(self):
        row = self.space.questions.filter(unanswerable=False).first()
        body = self.draft(select={"k": 3, "budget_tokens": 2000})
        told = self.post("drafts/ask", body=body, question=row.pk, words="wind")
        self.assertEqual(told["question"]["id"], row.pk)
        self.assertEqual(told["trace"]["asked"]["wordings"][0]["words"], {"wind": 1.0})
        typed = self.post("drafts/ask", body=body, text=row.text)
        self.assertEqual(len([on for on in typed["trace"]["stages"][-1]["kept"] if on]), 3)
        self.assertFalse(self.space.asked.exists())

    def test_what_is_wrong_or_would_have_to_be_built_is_told(self):
        self.assertIn(
            "select.k: 0 is not between", self.post("drafts", 400, body=self.draft(select={"k": 0}))["detail"]
        )
        self.assertIn("name a labelled question", str(self.post("drafts/ask", 400, body=self.draft())))
        self.post("drafts", 409, body=self.draft(chunking={"size": 33}))

    def test_what_is_held_is_of_these_documents_and_labels(self):
        drafts = Drafts(kept=1)
        first = drafts.of(self.space, "a")
        self.assertIs(drafts.of(self.space, "a"), first)
        self.assertIsNot(drafts.of(self.space, "b"), first)
        self.assertIsNot(drafts.of(self.space, "a"), first)
