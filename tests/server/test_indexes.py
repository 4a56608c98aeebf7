"""Indexes through the API and the worker: structures, surveys, merging, cost, analysis, and what a kill leaves."""

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.management import call_command
from django.db import connection
from django.test import override_settings

from doppio.core.build.builder import Builder
from doppio.core.errors import DocumentError
from doppio.core.progress import Silent
from doppio.core.store.segments import MOST_PARTS
from doppio.core.text.document import PARAGRAPH, DocumentBuilder
from doppio.jobs.models import Job, MeasuredRate
from doppio.library.corpus import corpus_of
from doppio.library.services import remove_documents, store_documents
from doppio.recipes.builds import build, builder, open_pipeline
from doppio.recipes.services import core_recipe, save_recipe
from doppio.trials.models import Survey
from doppio.trials.services import latest_trial, measure_recipe, start_trial
from tests.core.corpus import ROOT, recipe
from tests.server.committed import Committed
from tests.server.workspace import make_workspace

SPARSE = {"id": "sparse", "kind": "bm25"}
HNSW = {"id": "dense", "kind": "vector", "structure": {"kind": "hnsw", "m": 8}}
ASKED = ("What is E-417?", "dog muzzle", "wind at the gondola", "aerodrome in fog")
BUILD_STRUCTURE = "build the structure over the vectors"
CHUNKING = {"rule": "fixed-window", "unit": "words", "size": 8}
START = (
    "import django; from django.conf import settings; settings.DATABASES['default']['NAME'] = {name!r}; "
    "django.setup()\n{more}\nfrom django.core.management import call_command; call_command('work'{once})\n"
)


class Indexes(Committed):
    def setUp(self):
        self.workspace, self.user = make_workspace(self.id())
        self.client.force_login(self.user)
        self.root = f"/api/workspaces/{self.workspace.pk}/"

    def saved(self, **changes):
        given = {"chunking": CHUNKING, "branches": [SPARSE, HNSW], **changes}
        return save_recipe(self.workspace, recipe(**given).body)

    def get(self, path, status=200):
        answer = self.client.get(self.root + path)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def post(self, path, body=None, status=200):
        answer = self.client.post(self.root + path, body, content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()


class Stage(Indexes):
    def setUp(self):
        super().setUp()
        self.recipe = self.saved(branches=[{**SPARSE, "variant": "plus"}, HNSW])
        measure_recipe(self.recipe, Silent())

    def test_both_branches_say_what_they_are_and_what_they_take(self):
        sparse, dense = (self.get(f"stages/{family}/index")["facts"] for family in ("sparse", "dense"))
        index = open_pipeline(self.workspace, core_recipe(self.recipe)).branches["sparse"].index
        self.assertEqual((sparse["variant"], sparse["terms"]), ("plus", len(index.vocabulary())))
        self.assertEqual(sparse["entries"], sum(index.vocabulary().values()))
        self.assertEqual(dense["vector_bytes"], dense["chunks"] * dense["dimension"] * 4)
        self.assertEqual((dense["structure"]["kind"], dense["warning"]), ("hnsw", ""))
        self.assertGreater(dense["structure_bytes"], dense["chunks"] * dense["dimension"])
        self.assertAlmostEqual(sum(dense["nearest"]), 1, places=5)

    def test_neighbours_pairs_and_map_agree_with_plain_products(self):
        vectors = open_pipeline(self.workspace, core_recipe(self.recipe)).branches["dense"].index
        rows = vectors.vectors(range(vectors.count))
        cosines = rows @ rows.T
        found = self.get("stages/dense/neighbours?chunk=3")
        expected = [n for n in np.argsort(-cosines[3]).tolist() if n != 3]
        self.assertEqual([row["number"] for row in found["nearest"]][:5], expected[:5])
        self.assertEqual(found["chunk"]["number"], 3)
        pairs = self.get("stages/dense/pairs?above=0.6")
        self.assertEqual(pairs["count"], int((cosines[np.triu_indices(len(rows), 1)] >= 0.6).sum()))
        question = self.workspace.questions.get(identity="q2")
        found = self.get(f"stages/dense/map?question={question.pk}")
        self.assertEqual(len(found["x"]), len(rows))
        self.assertTrue(found["answers"])
        self.assertEqual(len(found["question"]), 2)
        centered = rows - rows.mean(axis=0)
        _, _, axes = np.linalg.svd(centered, full_matrices=False)
        np.testing.assert_allclose(np.abs(found["x"]), np.abs(centered @ axes[0]), atol=1e-3)

    def test_bad_numbers_are_refused_with_what_is_allowed(self):
        self.assertIn("is not between 0 and", self.get("stages/dense/neighbours?chunk=9999", 400)["detail"])
        self.assertIn("is not between 0.5 and 1", self.get("stages/dense/pairs?above=7", 400)["detail"])
        wrong = {"text": "x", "analysis": {"grams": {"from": 4, "to": 2}}}
        self.assertIn("analysis.grams.from: 4 is above", self.post("stages/sparse/analysis", wrong, 400)["detail"])

    def test_the_playground_shows_every_step_and_who_holds_the_terms(self):
        found = self.post("stages/sparse/analysis", {"text": "The E-417 dogs"})
        self.assertEqual([step["token"] for step in found["steps"]], ["The", "E-417", "dogs"])
        self.assertTrue(found["steps"][0]["stopped"])
        whole = found["steps"][1]["terms"][0]
        self.assertEqual((whole["text"], whole["kind"]), ("e-417", "code kept whole"))
        self.assertGreater(whole["chunks"], 0)
        german = self.post("stages/sparse/analysis", {"text": "Seilbahnen", "analysis": {"language": "de"}})
        self.assertEqual(german["steps"][0]["terms"][0]["text"], "seilbahn")
        groups = self.post("stages/sparse/synonyms", {"text": "cabin, gondola\n", "name": "s.txt"})
        self.assertEqual(groups, {"groups": [["cabin", "gondola"]]})
        cases = self.post("stages/sparse/analysis", {"text": "", "analysis": {"language": "fr"}})["cases"]
        self.assertEqual((cases[0]["one"], cases[0]["shared"]), ("l’eau", ["eau"]))

    def test_the_most_synonyms_fit_and_a_context_too_large_is_remarked(self):
        groups = [[f"cabin {group}.{place}" for place in range(50)] for group in range(5000)]
        text = "\n".join(map(", ".join, groups))
        self.assertGreater(len(text), 2_500_000)
        self.assertEqual(len(self.post("stages/sparse/synonyms", {"text": text})["groups"]), 5000)
        branch = {**SPARSE, "analysis": {**SPARSE.get("analysis", {}), "synonyms": groups}}
        body = recipe(chunking=CHUNKING, branches=[branch], rerank=None, select={"k": 90}).body
        (remark,) = self.post("recipes/cost", {"body": body})["remarks"]
        self.assertIn("select.k: 90 is above fusion.depth, 50", remark)

    def test_a_survey_is_measured_by_the_worker_and_kept(self):
        self.assertEqual(self.get("stages/dense/survey")["points"], [])
        job = self.post("stages/dense/survey", status=202)
        self.assertEqual(self.post("stages/dense/survey", status=202)["id"], job["id"])
        call_command("work", once=True)
        found = self.get("stages/dense/survey")
        self.assertEqual(found["job"]["state"], Job.DONE, found["job"]["message"])
        self.assertEqual(found["questions"], 4)
        self.assertEqual(found["points"][0]["structure"], {"kind": "exact"})
        self.assertEqual(Survey.objects.get().points, found["points"])
        chosen = found["points"][-1]["structure"]
        body = {**self.recipe.body, "branches": [SPARSE, {**HNSW, "structure": chosen}]}
        self.post("recipes/save", {"body": body}, 201)

    def test_encoders_are_listed_with_what_they_were_made_for(self):
        listed = {row["name"]: row for row in self.client.get("/api/encoders").json()}
        self.assertLessEqual({"compact-english", "compact-english-int8", "corpus-terms"}, set(listed))
        self.assertEqual(listed["compact-english"]["dimension"], 384)


class Cost(Indexes):
    def test_what_a_build_costs_is_said_before_and_nothing_is_left_to_do_after(self):
        body = recipe(chunking=CHUNKING, branches=[SPARSE, HNSW]).body
        before = self.post("recipes/cost", {"body": body})
        self.assertGreater(before["cut"], 0)
        self.assertEqual(
            [step["title"] for step in before["steps"]],
            [
                "index terms",
                "encode chunks",
                "keep the vectors of all tokens",
                "build the structure over the vectors",
            ],
        )
        self.assertGreater(before["seconds"], 0)
        saved = self.saved()
        measure_recipe(saved, Silent())
        count = len(builder().table(corpus_of(self.workspace), core_recipe(saved)))
        self.assertEqual(before["cut"], count)
        self.assertEqual(self.post("recipes/cost", {"body": body})["steps"], [])
        disk = sum(index.bytes for index in self.workspace.chunkings.get().indexes.exclude(kind="segment"))
        self.assertLess(abs(disk - before["disk_bytes"]), 0.5 * disk)
        other = {**body, "branches": [{**SPARSE, "k1": 2}, {**HNSW, "structure": {"kind": "binary"}}]}
        steps = self.post("recipes/cost", {"body": other})["steps"]
        self.assertEqual([(step["title"], step["chunks"]) for step in steps], [(BUILD_STRUCTURE, count)])

    def test_a_build_leaves_its_rates_behind(self):
        job = start_trial(self.saved(), self.user)
        from doppio.jobs.running import run_job

        now = [100.0]

        def work(_job, progress):
            for step, done in (("encode chunks", 10), ("cut short", 3)):
                progress.start(step, 10, "tokens")
                now[0] += 0.25
                progress.advance(done)
            return "done"

        run_job(job.pk, work, lambda: now[0])
        self.assertEqual(list(MeasuredRate.objects.values_list("step", "per_second")), [("encode chunks", 40.0)])


class Upkeep(Indexes):
    def test_many_small_changes_are_merged_by_the_worker_and_the_answers_stay(self):
        saved = self.saved()
        for number in range(MOST_PARTS + 2):
            document = DocumentBuilder()
            document.add(PARAGRAPH, f"Bulletin {number}: the rope of line {number} is inspected on day {number}.")
            store_documents(self.workspace, [document.build(f"bulletin-{number:02d}.md")])
            measure_recipe(saved, Silent())
        key = builder().keys(corpus_of(self.workspace), core_recipe(saved)).chunks
        self.assertGreater(len(builder().lists.read(key).parts), MOST_PARTS)
        asked = ["rope of line 7", "What is E-417?"]
        before = [t.to_json()["stages"] for t in open_pipeline(self.workspace, core_recipe(saved)).ask_many(asked)]
        call_command("work", once=True)
        self.assertLessEqual(len(builder().lists.read(key).parts), MOST_PARTS // 2)
        after = [t.to_json()["stages"] for t in open_pipeline(self.workspace, core_recipe(saved)).ask_many(asked)]
        for mine, theirs in zip(before, after, strict=True):
            for one, other in zip(mine, theirs, strict=True):
                self.assertEqual(one["chunks"], other["chunks"])
                np.testing.assert_allclose(one["scores"], other["scores"], rtol=1e-6)


class Outrun(Indexes):
    """Documents that change while something is built over them; each test cuts in its own way, and so builds anew."""

    def meanwhile(self, what, when="chunks"):
        """Do something right after a step of the next build."""
        real = getattr(Builder, when)
        done = []

        def step(*given):
            found = real(*given)
            if not done:
                done.append(what())
            return found

        return mock.patch.object(Builder, when, step)

    def remove(self):
        remove_documents(self.workspace, [self.workspace.documents.get(name="alarms.csv").pk])

    def change(self):
        document = DocumentBuilder()
        document.add(PARAGRAPH, "A dog rides free since May, and no muzzle is wanted any more on any line.")
        store_documents(self.workspace, [document.build("dogs.html")])

    def add(self):
        document = DocumentBuilder()
        document.add(PARAGRAPH, "The aerodrome is closed in fog.")
        store_documents(self.workspace, [document.build("aerodrome.md")])

    def assert_as_a_fresh_build(self, saved):
        """What the index answers now is what one that was built from nothing answers."""
        workspace, core = self.workspace, core_recipe(saved)
        measure_recipe(saved, Silent())
        mine = [trace.to_json()["stages"] for trace in open_pipeline(workspace, core).ask_many(ASKED)]
        with tempfile.TemporaryDirectory() as place, override_settings(DOPPIO_ARTIFACTS=Path(place)):
            build(workspace, core, Silent())
            fresh = [trace.to_json()["stages"] for trace in open_pipeline(workspace, core).ask_many(ASKED)]
        for one, other in zip(mine, fresh, strict=True):
            for stage, same in zip(one, other, strict=True):
                self.assertEqual(stage["chunks"], same["chunks"])
                np.testing.assert_allclose(stage["scores"], same["scores"], rtol=1e-4, atol=1e-5)

    def test_a_document_that_goes_or_changes_under_a_build_spoils_no_index(self):
        for what, size in ((self.remove, 15), (self.change, 16)):
            with self.subTest(what.__name__):
                saved = self.saved(name=what.__name__, chunking={**CHUNKING, "size": size})
                with self.meanwhile(what), self.assertRaisesRegex(DocumentError, "changed or were removed"):
                    measure_recipe(saved, Silent())
                self.assertIsNone(latest_trial(saved))
                self.assert_as_a_fresh_build(saved)

    def test_questions_are_answered_while_documents_come_change_and_go(self):
        saved = self.saved(chunking={**CHUNKING, "size": 19})
        trial = measure_recipe(saved, Silent())
        self.client.force_login(self.user)

        def get(tail):
            return self.client.get(f"/api/workspaces/{self.workspace.pk}/{tail}").json()

        def ask(text):
            answer = self.client.post(
                f"/api/workspaces/{self.workspace.pk}/ask", {"text": text}, content_type="application/json"
            )
            self.assertEqual(answer.status_code, 200, answer.content)
            found = answer.json()
            return {row["title"] for row in found["chunks"]}, [row["title"] for row in found["absent"]["documents"]]

        whole = {"Dogs", "Wind rules"}
        titles, missing = ask("a dog in the wind")
        self.assertTrue(whole <= titles and not missing, titles)
        self.assertIsNone(get("line")["earlier"])
        self.change()
        self.assertEqual(ask("a dog in the wind")[1], ["dogs.html"])
        self.add()
        titles, missing = ask("a dog in the wind")
        self.assertEqual(missing, ["aerodrome.md", "dogs.html"])
        self.assertTrue("Wind rules" in titles and not titles & {"Dogs", "dogs.html"})
        question = self.workspace.questions.get(identity="q2")
        self.assertEqual(get(f"questions/{question.pk}")["absent"]["count"], 2)
        line = get("line")
        self.assertEqual((line["trial"], line["earlier"]["documents"]), (None, 3))
        self.assertEqual(line["delivered"], trial.ledger["delivered"])
        self.assertEqual(line["answerable"], trial.answerable)
        self.assertEqual(
            self.client.get(f"/api/workspaces/{self.workspace.pk}/stages/reranked/floor").status_code, 200
        )
        self.remove()
        self.assertNotIn("Alarm codes", ask("E-417")[0])
        measure_recipe(saved, Silent())
        titles, missing = ask("a dog in the wind")
        self.assertTrue("dogs.html" in titles and not missing)
        self.assertEqual(self.workspace.chunkings.filter(settings=core_recipe(saved).chunking).count(), 1)
        self.assertIsNone(get("line")["earlier"])

    def test_documents_that_come_meanwhile_are_left_to_the_next_build(self):
        saved = self.saved(chunking={**CHUNKING, "size": 17})
        with self.meanwhile(self.add):
            record = measure_recipe(saved, Silent())
        self.assertNotEqual(record.corpus, corpus_of(self.workspace))
        self.assertIsNone(latest_trial(saved))
        self.assert_as_a_fresh_build(saved)

    def test_a_record_of_a_chunking_that_went_during_the_build_is_made_again(self):
        saved = self.saved(chunking={**CHUNKING, "size": 18})
        with self.meanwhile(lambda: self.workspace.chunkings.all().delete(), "indexes"):
            measure_recipe(saved, Silent())
        self.assertGreater(self.workspace.chunkings.get().indexes.count(), 0)

    def test_a_trial_whose_documents_changed_while_it_ran_is_followed_by_another(self):
        saved = self.saved()
        job = start_trial(saved, self.user)
        Job.objects.filter(pk=job.pk).update(
            state=Job.RUNNING, details={"recipe": saved.pk, "corpus": corpus_of(self.workspace)}
        )
        self.assertEqual(start_trial(saved, self.user).pk, job.pk)
        self.add()
        after = start_trial(saved, self.user)
        self.assertNotEqual(after.pk, job.pk)
        self.assertEqual(start_trial(saved, self.user).pk, after.pk)

    def test_an_open_pipeline_reads_no_text_that_is_not_the_one_that_was_cut(self):
        saved = self.saved()
        measure_recipe(saved, Silent())
        pipeline = open_pipeline(self.workspace, core_recipe(saved))
        everything = range(len(pipeline.chunks))
        self.change()
        for read in (pipeline.texts.texts, pipeline.texts.indexed, pipeline.texts.titles, pipeline.texts.headings):
            with self.assertRaisesRegex(DocumentError, "changed or were removed"):
                read(everything)


class Killed(Indexes):
    def worker(self, more="", once=False):
        code = START.format(name=connection.settings_dict["NAME"], more=more, once=", once=True" if once else "")
        environment = os.environ | {"DJANGO_SETTINGS_MODULE": "doppio.site.settings"}
        return subprocess.Popen([sys.executable, "-c", code], env=environment, cwd=ROOT)

    def until(self, ready, seconds=60):
        end = time.monotonic() + seconds
        while not ready():
            self.assertLess(time.monotonic(), end, "the worker did not get there")
            time.sleep(0.03)

    def test_killed_in_every_step_it_leaves_no_half_index_and_the_next_worker_ends_the_job(self):
        # Each worker stops at one step for good, is killed there, and the next one goes on to the next.
        saved = self.saved(name="killed", chunking={**CHUNKING, "size": 9})
        job = start_trial(saved, self.user)
        hang = (
            "import time\nfrom doppio.jobs.running import JobProgress\nreal = JobProgress.{method}\n"
            "def stop(self, *given):\n    real(self, *given)\n"
            "    if self._job.step == {step!r}:\n        self._say()\n        time.sleep(60)\n"
            "JobProgress.{method} = stop\n"
        )
        steps = [("index terms", "start"), ("encode chunks", "advance")]
        steps += [("build hnsw", "start"), ("ask questions", "start")]
        root = Path(os.environ["DOPPIO_ARTIFACTS"])
        for step, method in steps:
            worker = self.worker(hang.format(method=method, step=step))
            try:
                self.until(lambda step=step: Job.objects.get(pk=job.pk).step == step)
                time.sleep(0.15)
            finally:
                worker.send_signal(signal.SIGKILL)
                worker.wait()
            self.assertEqual(Job.objects.get(pk=job.pk).state, Job.RUNNING)
            self.assertIsNone(latest_trial(saved))
            for place in root.glob("*-*/manifest.json"):
                builder().store.open(*place.parent.name.rsplit("-", 1))
            time.sleep(0.25)
            # The next worker takes the job over as soon as the dead one has been silent for a moment.
            call_command("work", once=True, silent_for=0.1) if step == steps[-1][0] else self.requeue()
        self.assertEqual(Job.objects.get(pk=job.pk).state, Job.DONE)
        self.assertIsNotNone(latest_trial(saved))
        self.assertEqual([path.name for path in root.glob(".encoding-*")], [])

    def requeue(self):
        with connection.cursor() as cursor:
            cursor.execute("UPDATE procrastinate_jobs SET status = 'todo', worker_id = NULL WHERE status = 'doing'")

    def test_two_workers_on_one_queue_build_each_recipe_once(self):
        saved = [self.saved(name=f"two {size}", chunking={**CHUNKING, "size": size}) for size in (10, 11, 12)]
        jobs = [start_trial(one, self.user) for one in saved]
        workers = [self.worker(once=True) for _ in range(2)]
        for worker in workers:
            worker.wait(120)
        # A worker that finds the lock taken may leave before the last job is free.
        call_command("work", once=True)
        self.assertEqual([Job.objects.get(pk=job.pk).state for job in jobs], [Job.DONE] * 3)
        self.assertEqual([one.trials.count() for one in saved], [1, 1, 1])
