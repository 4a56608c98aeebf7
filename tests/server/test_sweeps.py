"""Sweeps in the application: looked ahead at, run, stopped and gone on with, chosen from, carried along."""

import io
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.management import call_command

from doppio.core.errors import Cancelled
from doppio.core.measure.axes import offers
from doppio.core.measure.sweep_plan import plan
from doppio.core.measure.sweeper import Sweeper
from doppio.core.progress import Silent
from doppio.jobs.models import Job
from doppio.library.carrying import pack, unpack
from doppio.questions.models import Question
from doppio.recipes.services import core_recipe, save_recipe
from doppio.trials.figures import read
from doppio.trials.models import Sweep, SweepRow
from doppio.trials.services import measure_recipe
from doppio.trials.sweeps import unpacked
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured

AXES = ["fusion.weights.dense=0,1,4", "select.k=1,2"]


class Sweeps(Committed):
    def setUp(self):
        self.space, self.user = make_workspace("Swept")
        self.recipe, self.trial = measured(self.space, rerank=None)
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/sweeps"

    def post(self, tail="", status=202, **given):
        body = {"recipe": self.recipe.pk, "axes": AXES, "figure": "mrr", **given}
        answer = self.client.post(self.path + tail, body, content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def get(self, tail="", status=200):
        answer = self.client.get(self.path + tail)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def run_jobs(self):
        call_command("work", once=True, stdout=io.StringIO())

    def test_a_sweep_tells_what_its_settings_give(self):
        self.assertEqual(self.post("/outlook", 200)["settings"], 6)
        number = self.post()["id"]
        self.run_jobs()
        found = self.get(f"/{number}")
        self.assertEqual((found["job"]["state"], found["settings"], len(found["rows"])), ("done", 6, 6))
        self.assertEqual(found["moved"][0], {"path": "fusion.weights.dense", "title": "Fused: weight of dense",
                                             "values": [0, 1, 4]})  # fmt: skip
        # What it says of the present settings is what their trial says, and of others what a trial of theirs says.
        self.assertAlmostEqual(found["rows"][0]["mean"], self.trial.stages["context"]["mrr"], places=5)
        chosen = next(row for row in found["rows"] if row["place"] == found["chosen"]["chosen"])
        self.assertAlmostEqual(chosen["mean"], found["chosen"]["flattering"], places=5)
        body = self.get(f"/{number}/recipe?row=5")["body"]
        other = measure_recipe(save_recipe(self.space, {**body, "name": "other"}, in_force=False), Silent())
        self.assertAlmostEqual(found["rows"][5]["mean"], other.stages["context"]["mrr"], places=5)
        asked = read(other.figures).of("context", "mrr")
        by_name = {row.identity: asked[row.pk] for row in Question.objects.filter(pk__in=asked)}
        sweep = Sweep.objects.get(pk=number)
        np.testing.assert_allclose(
            unpacked(sweep.rows.get(place=5).values), [by_name[name] for name in sweep.questions]
        )
        self.assertEqual([row["tried"] for row in self.get()], [6])

    def test_a_stopped_sweep_goes_on_where_it_was(self):
        number = self.post()["id"]
        ask, asked = Sweeper.figures, []

        def stop(own, recipe, *rest):
            if len(asked) == 2:
                raise Cancelled("cancelled")
            asked.append(recipe.fingerprint)
            return ask(own, recipe, *rest)

        with mock.patch.object(Sweeper, "figures", stop):
            self.run_jobs()
        found = self.get(f"/{number}")
        self.assertEqual((found["job"]["state"], len(found["rows"]), found["chosen"]), ("cancelled", 2, None))
        more = []
        with mock.patch.object(Sweeper, "figures", lambda own, recipe, *rest: more.append(recipe.fingerprint) or
                               ask(own, recipe, *rest)):  # fmt: skip
            self.assertEqual(self.client.post(f"{self.path}/{number}/go-on").status_code, 202)
            self.run_jobs()
        self.assertEqual(len(more), 4)
        self.assertFalse(set(more) & set(asked))
        resumed = self.get(f"/{number}")
        whole = self.post()["id"]
        self.run_jobs()
        self.assertEqual(self.get(f"/{whole}")["chosen"], resumed["chosen"])
        self.assertIn("tried everything", self.client.post(f"{self.path}/{number}/go-on").json()["detail"])

    def test_what_was_tried_stands_for_its_labels_alone(self):
        number = self.post()["id"]
        self.space.marked += 1
        self.space.save()
        self.run_jobs()
        found = self.get(f"/{number}")
        self.assertEqual((found["job"]["state"], found["current"]), ("failed", False))
        self.assertIn("have changed since this sweep began", found["job"]["message"])
        self.assertEqual(self.client.post(f"{self.path}/{number}/go-on").status_code, 400)
        self.assertEqual(self.client.delete(f"{self.path}/{number}").status_code, 204)
        self.assertEqual(self.get(), [])

    def test_a_removed_sweep_is_cancelled(self):
        number = self.post()["id"]
        self.client.delete(f"{self.path}/{number}")
        self.run_jobs()
        self.assertEqual(Job.objects.filter(kind="sweep").get().state, Job.CANCELLED)
        self.assertFalse(SweepRow.objects.exists())

    def test_wishes_that_cannot_be_are_refused(self):
        for given, told in (
            ({"axes": ["select.k=0"]}, "axis: select.k=0: select.k: 0 is not between 1 and 100"),
            ({"axes": ["k"]}, "axis: 'k' is not a setting and its values"),
            ({"axes": []}, "axes"),
            ({"figure": "reranked:mrr"}, "there is no stage 'reranked'"),
            ({"by": "guess"}, "by"),
        ):
            self.assertIn(told, str(self.post("", 400, **given)))
            self.assertIn(told, str(self.post("/outlook", 400, **given)))
        number = self.post(figure="best@5")["id"]
        self.run_jobs()
        self.assertIn("best@5", self.get(f"/{number}")["job"]["message"])
        self.get(f"/{number + 1}", 404)

    def test_sweeps_go_into_the_file_of_a_workspace(self):
        number = self.post(by="halving")["id"]
        self.run_jobs()
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "space.doppio"
            pack(self.space, file)
            other = unpack(file, self.user)
        before, after = Sweep.objects.get(pk=number), other.sweeps.get()
        self.assertEqual(before.found, after.found)
        self.assertEqual(
            list(before.rows.values_list("place", "settings", "mean", "asked")),
            list(after.rows.values_list("place", "settings", "mean", "asked")),
        )

    def test_every_offer_of_an_axis_can_be_swept(self):
        offered = self.get("/axes")
        self.assertIn("branches[0].k1", [one["path"] for one in offered])
        core = core_recipe(self.recipe)
        self.assertEqual([vars(one) for one in offers(core)], offered)
        for one in offered:
            with self.subTest(one["path"]):
                rows = plan(core, [f"{one['path']}={one['values']}"]).rows
                self.assertEqual(rows[0], {one["path"]: one["now"]})
                self.assertGreater(len(rows), 1)
