"""An installation of an earlier version is taken over: every record is there, and figures are what they were.

`tests/kept` holds a backup of each version whose records are read otherwise today, made by that version itself.
"""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from doppio.command import backup
from doppio.launch.cluster import Cluster
from tests.core.corpus import MODELS, ROOT
from tests.server.test_cluster import remove

KEPT = ROOT / "tests" / "kept" / "before-apps.zip"
# Run in a process of its own: the settings of this one belong to the tests' database.
LOOK = """
import json
import django
django.setup()
from django.core.management import call_command
from doppio.command.serving import _migrate
said = [_migrate(), _migrate()]
call_command("makemigrations", check=True, dry_run=True, verbosity=0)
from doppio.core.progress import Silent
from doppio.core.trace import Trace
from doppio.jobs.models import Job
from doppio.library.models import SourceFile, Workspace
from doppio.questions.models import AnswerSpan, AskedQuestion, Question
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe, save_recipe
from doppio.trials.services import latest_trial, measure_recipe
workspace = Workspace.objects.get()

def same(old, new):
    # Metrics that mean what they meant: the ideal of nDCG has changed, and there are more by now.
    return all(
        new[stage][name] == value
        for stage, metrics in old.items()
        for name, value in metrics.items()
        if not name.startswith("ndcg")
    )

def counted(trial):
    # There are more causes by now.
    return {cause: count for cause, count in trial.ledger.items() if count}

found = {"said": said, "trials": {}}
for recipe in RecipeVersion.objects.order_by("pk"):
    old = latest_trial(recipe)
    new = measure_recipe(recipe, Silent())
    traces = [
        [[s.stage, s.chunks.tolist()] for s in Trace.from_json(row.trace).stages]
        for trial in (old, new) for row in trial.rows.order_by("question__position")
    ]
    half = len(traces) // 2
    found["trials"][recipe.name] = {
        "same figures": same(old.stages, new.stages) and (counted(old), old.levels) == (counted(new), new.levels),
        "told apart": old.measures < new.measures,
        "same rankings": traces[:half] == traces[half:],
        "saved again": save_recipe(workspace, recipe.body).pk == recipe.pk,
    }
graph = core_recipe(RecipeVersion.objects.get(name="older graph")).branches[1]["structure"]
found["graph"] = graph
found["counts"] = [m.objects.count() for m in (Question, AnswerSpan, AskedQuestion, SourceFile, Job)]
found["fresh"] = Job.objects.create(workspace=workspace, kind="trial", title="next").pk
print(json.dumps(found))
"""


class Upgrade(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.var = self.folder / "var"
        self.cluster = Cluster(self.var, quick=True)
        self.addCleanup(remove, self.cluster)
        self.cluster.start()
        (self.var / "models").symlink_to(MODELS)

    def run_in(self, text):
        environment = {
            **os.environ,
            "DOPPIO_VAR": str(self.var),
            "DOPPIO_DATABASE": str(self.cluster.record),
            "DOPPIO_ARTIFACTS": str(self.var / "artifacts"),
            "DOPPIO_FILES": str(self.var / "files"),
            "DJANGO_SETTINGS_MODULE": "doppio.site.settings",
            "PYTHONPATH": str(ROOT / "src"),
        }
        return subprocess.run([sys.executable, "-c", text], env=environment, text=True, capture_output=True)

    def test_records_of_the_version_before_the_apps_are_taken_over_and_measure_the_same(self):
        backup.read(self.cluster, self.var / "files", KEPT)
        done = self.run_in(LOOK)
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        found = json.loads(done.stdout.strip().splitlines()[-1])
        self.assertIn("changes made", found["said"][0])
        self.assertEqual(found["said"][1], "up to date")
        self.assertEqual(set(found["trials"]), {"older graph", "late"})
        for name, same in found["trials"].items():
            self.assertEqual(set(same.values()), {True}, f"{name}: {same}")
        self.assertEqual((found["graph"]["m"], found["graph"]["ef_search"]), (8, 40))
        self.assertEqual(found["counts"], [4, 3, 1, 1, 1])
        self.assertEqual(found["fresh"], 2, "numbers go on where they were")
        self.assertTrue(list((self.var / "backups").glob("before-migration-*.zip")), "a backup was made before")

    def test_one_that_is_older_still_is_left_as_it_is_and_told(self):
        backup.read(self.cluster, self.var / "files", KEPT)
        self.cluster.sql("DELETE FROM django_migrations WHERE name = '0006_offsets_as_given'", "doppio")
        done = self.run_in("import django; django.setup(); from doppio.site.older import carry_over; carry_over()")
        self.assertIn("library 0006_offsets_as_given not applied", done.stderr)
        self.assertEqual(self.cluster.sql("SELECT count(*) FROM asking_recipeversion", "doppio"), "2")


if __name__ == "__main__":
    unittest.main()
