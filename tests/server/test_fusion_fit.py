"""The mix of branches fitted to a workspace's labels."""

import io
from unittest import mock

from django.core.management import call_command

from doppio.core.measure import fit_fusion as module
from doppio.core.progress import Silent
from doppio.recipes.services import save_recipe
from doppio.trials.services import measure_recipe
from tests.core.corpus import recipe
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured


class FusionFit(Committed):
    def setUp(self):
        self.space, self.user = make_workspace("Fitted")
        self.recipe, self.trial = measured(self.space, rerank=None)
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/stages/fused/fit"

    def fit(self):
        started = self.client.post(self.path)
        self.assertEqual(started.status_code, 202, started.content)
        call_command("work", once=True, stdout=io.StringIO())
        return self.client.get(self.path).json()

    def test_few_labels_fit_nothing_and_say_so(self):
        self.assertEqual(self.client.get(self.path).json(), {"fit": None, "job": None})
        found = self.fit()
        self.assertIsNone(found["fit"])
        self.assertIn("20 are needed", found["job"]["message"])

    def test_weights_are_told_and_a_recipe_with_them_gives_what_was_said(self):
        with mock.patch.object(module, "LEAST", 2), mock.patch.object(module, "RESAMPLES", 10):
            found = self.fit()["fit"]
        self.assertTrue(found["current"])
        self.assertEqual((found["questions"], [one["branch"] for one in found["weights"]]), (3, ["sparse", "dense"]))
        figure = next(one for one in found["figures"] if one["metric"] == "mrr")
        self.assertAlmostEqual(figure["today"], self.trial.stages["fused"]["mrr"], places=6)
        weights = {one["branch"]: one["weight"] for one in found["weights"]}
        fusion = {**found["settings"], "weights": weights, "depth": self.recipe.body["fusion"]["depth"]}
        taken = save_recipe(self.space, {**self.recipe.body, "name": "taken", "fusion": fusion})
        mrr = measure_recipe(taken, Silent()).stages["fused"]["mrr"]
        self.assertAlmostEqual(mrr, figure["flattering"], places=6)
        self.space.marked += 1
        self.space.save()
        self.assertFalse(self.client.get(f"{self.path}?recipe={self.recipe.pk}").json()["fit"]["current"])

    def test_what_cannot_be_fitted_is_refused(self):
        body = {**recipe(rerank=None).body, "name": "other"}
        mnz = save_recipe(self.space, {**body, "fusion": {"method": "comb-mnz"}}, in_force=False)
        one = save_recipe(
            self.space, {**body, "branches": body["branches"][:1], "fusion": {"method": "borda"}}, in_force=False
        )
        for row, told in ((mnz, "CombMNZ is no sum over branches"), (one, "two branches or more")):
            refused = self.client.post(f"{self.path}?recipe={row.pk}")
            self.assertEqual(refused.status_code, 400)
            self.assertIn(told, refused.json()["detail"])
