"""TREC runs from elsewhere as rows among the recipes."""

import tempfile
from pathlib import Path

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase

from doppio.core.trace import Trace
from doppio.library.carrying import pack, unpack
from doppio.questions.services import positions
from doppio.recipes.opened import pipelines
from doppio.recipes.services import core_recipe
from doppio.trials.models import OutsideRun
from tests.server.workspace import make_workspace, measured


class OutsideRuns(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, cls.user = make_workspace("Runs")
        cls.recipe, cls.trial = measured(cls.space, rerank=None)

    def setUp(self):
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/runs"

    def add(self, text, status=201, name="theirs.run"):
        data = text if isinstance(text, bytes) else text.encode()
        answer = self.client.post(self.path, {"file": SimpleUploadedFile(name, data)})
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def row(self, **given):
        found = self.client.get(f"/api/workspaces/{self.space.pk}/comparison", {"metric": "mrr", **given}).json()
        return next(row for row in found["rows"] if row["recipe"] is None)

    def own(self):
        """The trial's own delivered ranking as a run."""
        pipeline = pipelines.get(self.space, core_recipe(self.recipe))
        names = {place: name for name, place in positions(pipeline).items()}
        table, lines = pipeline.chunks, []
        for row in self.trial.rows.select_related("question"):
            for rank, chunk in enumerate(Trace.from_json(row.trace).stage("context").ranking.tolist(), 1):
                item = f"{names[int(table.document[chunk])]}:{table.start[chunk]}-{table.end[chunk]}"
                lines.append(f"{row.question.identity} Q0 {item} {rank} {1 / rank:.6f} own")
        return "\n".join(lines)

    def test_a_recipe_that_went_out_as_a_run_comes_back_with_its_figures(self):
        self.add(self.own())
        row = self.row()
        cell = row["cells"][0]
        self.assertEqual((row["title"], cell["questions"], cell["trial"]), ("theirs.run", 3, None))
        self.assertTrue(cell["current"])
        self.assertAlmostEqual(cell["mean"], self.trial.stages["context"]["mrr"], places=5)
        self.assertEqual(cell["said"], "the same on every question")
        # It is a ranking alone: what is measured after a stage of a recipe is measured after it.
        self.assertEqual(self.row(stage="sparse")["cells"][0]["mean"], cell["mean"])
        self.assertIsNone(self.row(metric="delivered")["cells"][0]["mean"])

    def test_changed_labels_make_it_an_earlier_one_until_it_is_measured_again(self):
        number = self.add(self.own())["id"]
        self.space.refresh_from_db()
        self.space.marked += 1
        self.space.save()
        self.assertFalse(self.row()["cells"][0]["current"])
        self.assertEqual(self.client.post(f"{self.path}/{number}").status_code, 200)
        self.assertTrue(self.row()["cells"][0]["current"])
        with tempfile.TemporaryDirectory() as folder:
            pack(self.space, Path(folder) / "w.zip")
            other = unpack(Path(folder) / "w.zip", self.user, "Other").outside_runs.get()
        before = OutsideRun.objects.get(pk=number)
        self.assertEqual((bytes(other.values), other.metrics), (bytes(before.values), before.metrics))
        self.assertEqual(len(other.questions), 3)

    def test_one_of_the_same_name_is_replaced_and_one_is_removed(self):
        self.add("q1 Q0 alarms.csv 1 2.0 x")
        number = self.add("q1 Q0 dogs.html 1 2.0 x")["id"]
        self.assertEqual(OutsideRun.objects.count(), 1)
        self.assertEqual(self.row()["cells"][0]["mean"], 0.0)
        self.assertEqual(self.client.delete(f"{self.path}/{number}").status_code, 204)
        self.assertFalse(OutsideRun.objects.exists())

    def test_what_is_no_run_is_refused_with_its_line(self):
        for text, told in (
            ("q1 Q0 alarms.csv 1 2.0 x\nq9 Q0 alarms.csv 1 2.0 x", "theirs.run, line 2: no labelled question"),
            ("q1 alarms.csv 1", "line 1: 3 fields"),
            ("q1 Q0 nowhere.md 1 2.0 x", "line 1: 'nowhere.md' is no document here"),
            (b"\xff\xfe", "not UTF-8"),
            ("  \n", "is empty"),
        ):
            self.assertIn(told, self.add(text, 400)["detail"])
        self.assertFalse(OutsideRun.objects.exists())
