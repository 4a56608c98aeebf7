"""Gates of a workspace: what they watch, when they close, which documents moved a figure, when they look again."""

import io
import tempfile
from datetime import timedelta
from pathlib import Path

from django.core.management import call_command
from django.utils import timezone

from doppio.core.text.document import Document as CoreDocument
from doppio.jobs.models import Job
from doppio.jobs.sweep import tidy
from doppio.library.carrying import pack, unpack
from doppio.library.models import Document, Event
from doppio.library.services import remove_documents, store_documents
from doppio.library.signals import settled
from doppio.questions.services import core_questions
from doppio.trials.models import Gate, GateResult, TrialRecord
from doppio.trials.origin import labels_of
from tests.core.corpus import documents
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured


class Gates(Committed):
    def setUp(self):
        self.space, self.user = make_workspace("Watched")
        self.recipe, self.trial = measured(self.space, rerank=None)
        self.client.force_login(self.user)
        self.path = f"/api/workspaces/{self.space.pk}/gates"

    def make(self, status=201, **given):
        answer = self.client.post(self.path, {"metric": "mrr", **given}, content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def only(self):
        (found,) = self.client.get(self.path).json()
        return found

    def run_jobs(self):
        call_command("work", once=True, stdout=io.StringIO())

    def without(self, name):
        remove_documents(self.space, [self.space.documents.get(name=name).pk])
        Event.objects.create(kind="documents removed", workspace=self.space, about={"documents": [name]})
        settled.send(Document, workspace=self.space)
        self.run_jobs()

    def test_a_gate_begins_with_the_history_of_its_recipe(self):
        measured(self.space, rerank=None)
        mean = self.trial.stages["context"]["mrr"]
        made = self.make(least=mean - 0.01)
        self.assertEqual(made["title"], "mrr after context")
        self.assertEqual([row["open"] for row in made["results"]], [True, True])
        self.assertAlmostEqual(made["results"][0]["mean"], mean, places=5)
        self.assertEqual(made["results"][0]["before"]["said"], "the same on every question")
        self.assertTrue(made["current"])
        self.assertEqual(made["baseline"], made["results"][0]["trial"])
        self.assertFalse(self.make(least=mean + 0.01)["results"][0]["open"])

    def test_a_change_of_documents_is_looked_at_and_says_what_it_moved(self):
        self.make(least=self.trial.stages["context"]["mrr"] - 0.01)
        text = "Gale gale gale. Reopening after a gale, reopening after a gale: nothing is said here of when."
        store_documents(self.space, [CoreDocument("noise.md", "Noise", text)])
        self.without("dogs.html")
        newest = self.only()["results"][0]
        self.assertFalse(newest["open"])
        self.assertIn("is below", newest["reasons"][0])
        told = {row["name"]: row for row in newest["documents"]}
        # Its label is lost with it, so the question is none that is answered any more: what moved are the others.
        became = {name: row["became"] for name, row in told.items()}
        self.assertEqual(became, {"dogs.html": "removed", "noise.md": "new"})
        if newest["moved"]:
            self.assertGreater(told["noise.md"]["handed"], 0)
        self.assertEqual(Event.objects.filter(kind="gate closed").get().about["figure"], "mrr after context")
        self.assertEqual(self.client.post(f"{self.path}/{Gate.objects.get().pk}/baseline").json()["baseline"],
                         newest["trial"])  # fmt: skip

    def test_a_changed_answer_is_put_down_to_its_document(self):
        self.make(least=0.0)
        texts = {one.id: one for one in documents()}
        wind = texts["wind.md"]
        moved = CoreDocument("wind.md", wind.title, "Other words stand here now.\n\n" + wind.text[:40])
        store_documents(self.space, [moved])
        settled.send(Document, workspace=self.space)
        self.run_jobs()
        newest = self.only()["results"][0]
        self.assertEqual([(row["name"], row["became"]) for row in newest["documents"]], [("wind.md", "changed")])

    def test_a_recipe_by_its_name_is_watched_though_another_is_in_force(self):
        made = self.make(recipe=self.recipe.pk, worst=0.0)
        measured(self.space, rerank=None, select={"k": 1, "budget_tokens": 100})
        self.assertEqual(len(self.only()["results"]), 1)
        settled.send(Document, workspace=self.space)
        self.assertEqual(Job.objects.filter(details__recipe=self.recipe.pk, state="queued").count(), 1)
        self.assertEqual(self.client.post(f"{self.path}/{made['id']}/look").status_code, 202)
        self.run_jobs()
        self.assertEqual(len(self.only()["results"]), 2)

    def test_a_gate_is_looked_at_when_its_time_has_come(self):
        self.make(least=0.1, every=24)
        for hours, jobs in ((23, 0), (25, 1)):
            TrialRecord.objects.update(measured_at=timezone.now() - timedelta(hours=hours))
            tidy(timezone.now())
            self.assertEqual(Job.objects.filter(kind="trial").count(), jobs)

    def test_what_watches_nothing_is_refused(self):
        self.assertIn("may not be fallen below", self.make(400)["detail"])
        self.assertIn("has no such figure; its metrics are", self.make(400, metric="best@5", least=0.1)["detail"])
        self.assertIn("has no such figure", self.make(400, stage="reranked", least=0.1)["detail"])
        self.make(400, least=2)
        self.assertFalse(Gate.objects.exists())

    def test_gates_go_into_the_file_of_a_workspace(self):
        self.make(least=0.2, worst=0.05, every=48)
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "space.doppio"
            pack(self.space, file)
            other = unpack(file, self.user)
        gate, before = other.gates.get(), self.space.gates.get()
        self.assertEqual((gate.least, gate.worst, gate.every, gate.metric), (0.2, 0.05, 48, "mrr"))
        self.assertEqual(gate.baseline.workspace, other)
        self.assertEqual(gate.results.get().mean, before.results.get().mean)
        self.assertEqual(other.trials.get().origin, self.space.trials.get().origin)
        self.client.delete(f"{self.path}/{before.pk}")
        self.assertEqual(GateResult.objects.filter(gate__workspace=self.space).count(), 0)

    def test_a_trial_says_what_it_hangs_on(self):
        origin = self.trial.origin
        self.assertEqual(origin["labels"], labels_of(core_questions(self.space)))
        self.assertRegex(origin["code"], r"^([0-9a-f]{12} )?[0-9a-f]{16}$")
        self.assertIn("compact-english", origin["models"])
        self.assertGreater(origin["machine"]["cores"], 0)
        _, second = measured(self.space, rerank=None)
        self.assertEqual({**second.origin, "began": ""}, {**origin, "began": ""})
        self.assertEqual(second.stages, self.trial.stages)
