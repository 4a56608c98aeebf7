"""A question over its trials: which change moved it."""

from django.test import TestCase

from doppio.core.recipe.differences import Otherwise, differences
from doppio.questions.models import Question
from doppio.trials.question_history import question_history
from tests.core.corpus import recipe
from tests.server.workspace import make_workspace, measured


class Differences(TestCase):
    def test_settings_by_their_paths(self):
        before = recipe(rerank=None).body
        now = recipe(
            rerank={"scorer": "late-interaction", "shortlist": 4},
            branches=[{"id": "sparse", "kind": "bm25", "k1": 2}],
            select={"k": 2, "budget_tokens": 60, "widening": {"kind": "neighbours"}},
            name="other",
        ).body
        found = {one.path: one for one in differences(before, now)}
        self.assertEqual(found["branches[0].k1"], Otherwise("branches[0].k1", 1.2, 2))
        self.assertEqual(found["branches[1]"].now, None)
        self.assertEqual(found["rerank"].before, None)
        self.assertEqual(found["select.widening.kind"][1:], ("none", "neighbours"))
        # Of another kind all else is another matter.
        self.assertEqual([path for path in found if path.startswith("select.widening")], ["select.widening.kind"])
        self.assertNotIn("name", found)
        self.assertEqual(differences(now, now), [])
        back = {one.path: (one.now, one.before) for one in differences(now, before)}
        self.assertEqual(back, {path: (one.before, one.now) for path, one in found.items()})


class PastTrials(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Past")
        cls.first, _ = measured(cls.space, rerank=None, select={"k": 1, "budget_tokens": 60})
        cls.second, _ = measured(cls.space, rerank=None, select={"k": 4, "budget_tokens": 900}, name="more")

    def setUp(self):
        self.client.force_login(self.user)

    def past(self, question):
        answer = self.client.get(f"/api/workspaces/{self.space.pk}/questions/{question.pk}/trials")
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def test_each_trial_says_what_was_otherwise_before_it(self):
        for question in self.space.questions.all():
            latest, first = self.past(question)
            self.assertEqual((latest["recipe"], first["recipe"]), ("more v1", "test v1"))
            self.assertEqual({one["path"]: (one["before"], one["now"]) for one in latest["settings"]},
                             {"select.k": (1, 4), "select.budget_tokens": (60, 900)})  # fmt: skip
            self.assertEqual((first["beside"], latest["beside"]), (None, "test v1"))
            self.assertEqual((first["ranks_before"], latest["ranks_before"]), ({}, first["ranks"]))
            self.assertEqual((first["settings"], first["moved"], latest["documents"]), ([], False, False))
            self.assertEqual(latest["moved"], (latest["cause"], latest["ranks"]) != (first["cause"], first["ranks"]))

    def test_a_recipe_is_told_beside_its_own_version_before(self):
        measured(self.space, rerank=None, select={"k": 2, "budget_tokens": 60})
        latest = self.past(self.space.questions.first())[0]
        self.assertEqual((latest["recipe"], latest["beside"]), ("test v2", "test v1"))
        self.assertEqual([one["path"] for one in latest["settings"]], ["select.k"])

    def test_labels_and_documents_that_changed_are_told_in_two_queries(self):
        question = self.space.questions.get(identity="q3")
        self.space.documents.get(name="alarms.csv").delete()
        Question.objects.filter(identity="q1").delete()
        self.space.marked += 1
        self.space.save()
        measured(self.space, rerank=None, select={"k": 4, "budget_tokens": 900}, name="again")
        latest = self.past(question)[0]
        self.assertEqual((latest["documents"], latest["labels"], latest["settings"]), (True, True, []))
        self.assertEqual(latest["beside"], "more v1")
        with self.assertNumQueries(1):
            question_history(question)
