"""Comparing recipes: figures kept by question, the table, two trials question by question."""

import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import TestCase

from doppio.core.measure import comparing as comparing_spy
from doppio.core.progress import Silent
from doppio.library.carrying import pack, unpack
from doppio.library.models import Membership, Workspace
from doppio.questions.models import Question, QuestionSet
from doppio.recipes.services import put_in_force
from doppio.trials.comparing import Measure, by_question, comparison
from doppio.trials.figures import read
from doppio.trials.models import TrialFigures
from doppio.trials.services import measure_recipe
from tests.server.workspace import make_workspace, measured

WITH = {"rerank": None}
SPARSE = {
    "rerank": None,
    "branches": [{"id": "words", "kind": "bm25", "depth": 2}],
    "fusion": {"method": "reciprocal-rank", "depth": 2},
    "select": {"k": 1, "budget_tokens": 100},
}


class Comparing(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Compared")
        cls.recipe, cls.trial = measured(cls.space, **WITH)
        cls.other, cls.second = measured(cls.space, **SPARSE)
        put_in_force(cls.recipe)

    def setUp(self):
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/comparison"

    def get(self, tail="", status=200, **given):
        answer = self.client.get(self.path + tail, given)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def test_figures_of_questions_give_the_means_of_the_trial(self):
        for trial in (self.trial, self.second):
            table = read(trial.figures)
            self.assertEqual(len(table.questions), 3)
            for stage, metrics in trial.stages.items():
                for name, mean in metrics.items():
                    self.assertAlmostEqual(np.mean(list(table.of(stage, name).values())), mean, places=5)
            delivered = sum(table.of("context", "delivered").values())
            self.assertEqual(delivered, trial.ledger["delivered"])
        self.assertEqual(read(self.trial.figures).of("context", "no such"), {})

    def test_every_recipe_stands_beside_the_baseline(self):
        found = self.get(metric="mrr")
        self.assertEqual((found["baseline"], found["lacking"]), (self.recipe.pk, []))
        self.assertEqual([column["title"] for column in found["columns"]], ["all questions"])
        rows = {row["recipe"]["id"]: row["cells"][0] for row in found["rows"]}
        self.assertIsNone(rows[self.recipe.pk]["difference"])
        cell = rows[self.other.pk]
        self.assertEqual(cell["difference"]["questions"], 3)
        self.assertAlmostEqual(cell["mean"] - rows[self.recipe.pk]["mean"], cell["difference"]["mean"], places=5)
        for one in rows.values():
            self.assertEqual(one["questions"], 3)
            self.assertTrue(0 <= one["low"] <= one["mean"] + 1e-6 and one["mean"] - 1e-6 <= one["high"] <= 1)
        # Three questions cannot tell, whatever happens.
        self.assertIn(cell["said"], ("within noise", "the same on every question"))
        self.assertTrue(cell["near_best"] and rows[self.recipe.pk]["near_best"])
        self.assertEqual(cell["holm"], cell["difference"]["p"])
        turned = self.get(metric="mrr", baseline=self.other.pk)
        back = {row["recipe"]["id"]: row["cells"][0] for row in turned["rows"]}[self.recipe.pk]
        self.assertAlmostEqual(back["difference"]["mean"], -cell["difference"]["mean"], places=6)
        self.assertIn("delivered", found["metrics"])
        costs = {row["recipe"]["id"]: row["costs"] for row in found["rows"]}
        self.assertLess(costs[self.other.pk]["bytes"], costs[self.recipe.pk]["bytes"])
        self.assertGreater(costs[self.other.pk]["milliseconds"], 0)
        handed = [row.trace["tokens"] for row in self.second.rows.all()]
        self.assertAlmostEqual(costs[self.other.pk]["tokens"], np.mean(handed), delta=0.06)

    def test_a_stage_is_found_by_its_kind_whatever_a_branch_is_called(self):
        rows = {row["recipe"]["id"]: row["cells"][0] for row in self.get(metric="recall@1", stage="sparse")["rows"]}
        self.assertAlmostEqual(rows[self.other.pk]["mean"], self.second.stages["words"]["recall@1"], places=5)
        self.assertAlmostEqual(rows[self.recipe.pk]["mean"], self.trial.stages["sparse"]["recall@1"], places=5)
        dense = {row["recipe"]["id"]: row["cells"][0] for row in self.get(metric="recall@1", stage="dense")["rows"]}
        self.assertIsNone(dense[self.other.pk]["mean"])
        self.assertIsNone(dense[self.other.pk]["difference"])

    def test_sets_and_workspaces_are_columns_and_recipes_are_known_by_their_settings(self):
        more = QuestionSet.objects.create(workspace=self.space, name="Second")
        Question.objects.filter(workspace=self.space, identity="q1").update(set=more)
        with tempfile.TemporaryDirectory() as place:
            pack(self.space, Path(place) / "w.zip")
            beside = unpack(Path(place) / "w.zip", self.user, "Beside")
        found = self.get(metric="mrr", beside=str(beside.pk))
        titles = [(column["workspace_name"], column["title"], column["questions"]) for column in found["columns"]]
        own = [
            (self.space.name, "all questions", 4),
            (self.space.name, titles[1][1], 3),
            (self.space.name, "Second", 1),
        ]
        self.assertEqual(titles[:3], own)
        self.assertEqual([title[0] for title in titles[3:]], ["Beside"] * 3)
        self.assertEqual(len(found["rows"]), 2)
        for row in found["rows"]:
            means = [cell["mean"] for cell in row["cells"]]
            self.assertEqual(means[:3], means[3:])
            self.assertNotEqual([cell["trial"] for cell in row["cells"][:1]], [row["cells"][3]["trial"]])

    def test_two_trials_question_by_question(self):
        found = self.get("/questions", first=self.trial.pk, second=self.second.pk, metric="mrr")
        self.assertEqual([found["first"]["id"], found["second"]["id"]], [self.recipe.pk, self.other.pk])
        self.assertEqual({row["identity"] for row in found["questions"]}, {"q1", "q2", "q3"})
        changes = [abs(row["after"] - row["before"]) for row in found["questions"]]
        self.assertEqual(changes, sorted(changes, reverse=True))
        self.assertAlmostEqual(
            np.mean([row["after"] - row["before"] for row in found["questions"]]), found["whole"]["mean"], places=6
        )
        for row in found["questions"]:
            ends = [self.trial, self.second]
            told = [trial.rows.get(question=row["question"]) for trial in ends]
            self.assertEqual(row["causes"], [one.cause for one in told])
            play = [one.in_play for one in told]
            parts = next(
                (kind for kind, names in (("sparse", ("sparse", "words")), ("fused", ("fused",) * 2),
                                          ("context", ("context",) * 2))
                 if play[0][names[0]] != play[1][names[1]]), "")  # fmt: skip
            self.assertEqual(row["parts"], parts)

    def test_two_trials_by_what_questions_share(self):
        found = self.get("/questions", first=self.trial.pk, second=self.second.pk, metric="mrr")
        by = {row["identity"]: row for row in found["questions"]}
        shares = {(row["kind"], row["name"]): row for row in found["shares"]}
        exact = shares["tag", "exact"]
        self.assertEqual((exact["questions"], exact["before"], exact["after"]),
                         (1, by["q1"]["before"], by["q1"]["after"]))  # fmt: skip
        self.assertEqual(
            {name for kind, name in shares if kind == "document"}, {"alarms.csv", "dogs.html", "wind.md"}
        )
        self.assertEqual(shares["length", "1 to 4 words"]["questions"], 2)
        for kind in ("document", "length", "set"):
            own = [row for (one, _), row in shares.items() if one == kind]
            self.assertEqual(sum(row["questions"] for row in own), 3)
            self.assertEqual(sum(row["wins"] for row in own), found["whole"]["wins"])
        self.assertIsNone(found["steadiness"])
        Question.objects.filter(workspace=self.space, identity__in=("q1", "q2")).update(group="same")
        steady = self.get("/questions", first=self.trial.pk, second=self.second.pk, metric="mrr")["steadiness"]
        ranks = [[trial.rows.get(question__identity=name).ranks["context"] for name in ("q1", "q2")]
                 for trial in (self.trial, self.second)]  # fmt: skip
        self.assertEqual([steady["worst"][0]["before"], steady["worst"][0]["after"]], ranks)
        apart = [abs(np.subtract(*(1 / rank if rank else 0 for rank in own))) for own in ranks]
        np.testing.assert_allclose([steady["before"], steady["after"]], apart)
        self.assertAlmostEqual(steady["gain"]["mean"], apart[0] - apart[1])

    def test_what_is_wrong_is_told(self):
        self.assertIn("baseline", self.get(status=400, baseline="x")["detail"])
        self.assertIn("no recipe 999999", self.get(status=400, baseline=999999)["detail"])
        self.assertIn("is no workspace of yours", self.get(status=400, beside="999999")["detail"])
        strange, _ = make_workspace("Stranger's")
        self.assertIn("is no workspace of yours", self.get(status=400, beside=str(strange.pk))["detail"])
        TrialFigures.objects.filter(trial=self.second).delete()
        self.assertEqual(self.get()["lacking"], [f"{self.other.name} v{self.other.version}"])
        lacking = self.get("/questions", status=400, first=self.trial.pk, second=self.second.pk)
        self.assertIn("measure it again", lacking["detail"])

    def test_groups_of_rewordings_count_once(self):
        Question.objects.filter(workspace=self.space, identity__in=("q1", "q2", "q3")).update(group="alike")
        with mock.patch("doppio.trials.comparing.compare", wraps=comparing_spy.compare) as spied:
            comparison([self.space], Measure("mrr"), None)
        groups = spied.call_args.kwargs["groups"]
        self.assertEqual(len(set(groups.tolist())), 2)

    def test_a_table_is_read_without_a_query_for_each_row(self):
        Membership.objects.filter(user=self.user).count()
        with self.assertNumQueries(6):
            comparison([Workspace.objects.get(pk=self.space.pk)], Measure("mrr"), None)
        measured(self.space, **{**SPARSE, "select": {"k": 2, "budget_tokens": 100}})
        with self.assertNumQueries(6):
            comparison([Workspace.objects.get(pk=self.space.pk)], Measure("mrr"), None)

    def test_measured_again_it_is_the_newest_that_counts(self):
        again = measure_recipe(self.other, Silent())
        cells = {row["recipe"]["id"]: row["cells"][0] for row in self.get()["rows"]}
        self.assertEqual(cells[self.other.pk]["trial"], again.pk)
        both = by_question(self.second, again, Measure("recall@5"))
        rows, whole = both.pairs, both.whole
        self.assertEqual((whole.wins, whole.losses, whole.p), (0, 0, 1.0))
        self.assertTrue(all(row.parts == "" for row in rows))
