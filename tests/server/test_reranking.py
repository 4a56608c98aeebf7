"""Reranking with a joint scorer through the API: the floor, depths, and a scorer on its own."""

import json
import shutil
import tempfile
import threading
from pathlib import Path
from unittest import mock

import numpy as np
from django.core.management import call_command
from django.test import TestCase

from doppio.command.stand_in import stand_in_server
from doppio.core.measure.relevance import relevance
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.fitted_folder import FittedFolder, write_fitted
from doppio.core.models.joint import Passage
from doppio.core.models.registry import Models
from doppio.core.models.remote import RemoteScorer, register_remote
from doppio.core.models.scorer_folder import prepare_gated
from doppio.core.progress import Silent
from doppio.core.trace import Trace
from doppio.jobs.models import Job
from doppio.library.carrying import pack, unpack
from doppio.questions.services import core_question, core_questions, positions
from doppio.recipes.builds import models, open_pipeline
from doppio.recipes.services import core_recipe
from doppio.stages.reranked.service import measure_depths, start_depths
from doppio.trials.services import measure_recipe
from tests.core import toy_scorers as toy
from tests.core.corpus import MODELS
from tests.server.committed import Committed
from tests.server.workspace import make_workspace, measured

CALIBRATION = {"slope": 0.8, "offset": 0.3}

EMPTY = ("rightly empty", "held to have no answer", "cut by chunking", "missed by every branch", "lost in fusion",
         "dropped by the reranker", "under the floor")  # fmt: skip
ANSWERABLE = {"best": 0.5, "second": 0.1, "all": 0.2, "unfound": -1.0, "offset": -1.0}


class WithToy:
    """The registered models and a small joint scorer, which is quick."""

    def use_toy(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        root = Path(place.name)
        source = toy.source_folder(root / "source", toy.random_weights())
        toy.save_file(toy.random_difference(), root / "learned.safetensors")
        fields = {"name": "toy", "title": "a toy", "max_tokens": 46, "blend": 0.5, "window": 16,
                  "calibration": CALIBRATION, "answerable": ANSWERABLE}  # fmt: skip
        prepare_gated(source, root / "learned.safetensors", root / "models" / "toy", small=False, fields=fields)
        (root / "models" / "compact-english").symlink_to(MODELS / "compact-english", target_is_directory=True)
        patched = mock.patch.multiple(models, root=root / "models", _open={})
        patched.start()
        self.addCleanup(patched.stop)
        self.models = root / "models"

    def get(self, path, status=200):
        answer = self.client.get(path)
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()

    def post(self, path, body=None, status=200):
        answer = self.client.post(path, json.dumps(body), content_type="application/json")
        self.assertEqual(answer.status_code, status, answer.content)
        return answer.json()


class Stage(WithToy, TestCase):
    def setUp(self):
        self.use_toy()
        self.workspace, self.user = make_workspace(self.id())
        self.client.force_login(self.user)
        self.recipe, self.trial = measured(self.workspace, rerank={"scorer": "toy", "shortlist": 5})
        self.root = f"/api/workspaces/{self.workspace.pk}/stages/reranked/"

    def test_a_trial_reranks_by_the_joint_score_blended_and_calibrated(self):
        scorer = CrossEncoder(self.models / "toy")
        for row in self.trial.rows.all():
            trace = Trace.from_json(row.trace)
            fused, stage = trace.stage("fused"), trace.stage("reranked")
            self.assertEqual(stage.measure, "joint score of question and passage")
            texts = self.texts(stage.chunks)
            raw = scorer.score(trace.question, [Passage(text) for text in texts]).scores
            np.testing.assert_allclose(stage.raw, raw, atol=1e-4)
            first = dict(zip(fused.chunks.tolist(), fused.scores.tolist(), strict=True))
            first = np.array([first[chunk] for chunk in stage.chunks.tolist()])
            blended = raw + 0.5 * raw.std() * (first - first.mean()) / first.std()
            np.testing.assert_allclose(stage.scores, blended, atol=1e-3)
            self.assertTrue((np.diff(stage.scores) <= 0).all())
            # What stands beside a pair has no part in how likely it answers.
            np.testing.assert_allclose(stage.probability, 1 / (1 + np.exp(-(0.8 * raw + 0.3))), atol=1e-3)

    def test_several_scorers_in_windows_leave_what_nothing_answers_empty(self):
        rerank = {
            "scorers": [{"scorer": "toy", "weight": 2}, {"scorer": "late-interaction"}],
            "shortlist": 5, "window": 16, "windows": 1,
        }  # fmt: skip
        filled, trial = measured(self.workspace, rerank=rerank, select={"k": 2})
        self.assertEqual([one["weight"] for one in filled.body["rerank"]["scorers"]], [2, 1])
        traces = [Trace.from_json(row.trace) for row in trial.rows.all()]
        least = float(np.median([trace.answered for trace in traces]))
        read = [length for trace in traces for length in self.read_of(trace)]
        self.assertTrue(read and max(read) < 16 * 12, read)
        for trace in traces:
            stage = trace.stage("reranked")
            self.assertEqual([part.scorer for part in stage.parts], ["toy", "late-interaction"])
            said = 1 / (1 + np.exp(-(0.8 * np.array(stage.parts[0].raw) + 0.3)))
            np.testing.assert_allclose(stage.probability, said, atol=1e-3)
        recipe, trial = measured(self.workspace, rerank=rerank, select={"k": 2, "empty_below": least})
        for row in trial.rows.all():
            trace = Trace.from_json(row.trace)
            context = trace.stage("context")
            emptied = trace.answered < least
            self.assertEqual(set(context.reasons) == {"held to have no answer"}, emptied)
            self.assertEqual(row.cause in ("delivered", "wrongly filled", "over the context budget"),
                             row.cause not in EMPTY and not emptied)  # fmt: skip
        self.assertEqual(sum(row.cause == "rightly empty" for row in trial.rows.all()),
                         sum(Trace.from_json(row.trace).answered < least and not row.question.spans.exists()
                             for row in trial.rows.select_related("question")))  # fmt: skip
        floor = self.get(self.root + f"floor?recipe={recipe.pk}")
        self.assertEqual(floor["measure"], "probability that the passage answers, 0 to 1")
        self.assertTrue(all(one["answered"] is not None for one in floor["questions"]))

    def read_of(self, trace):
        """Characters of the windows that were read of chunks that are longer."""
        windows = trace.stage("reranked").windows
        return [] if windows is None else [end - start for start, end in windows.tolist() if start >= 0]

    def test_emptiness_that_no_scorer_can_tell_is_remarked(self):
        path = f"/api/workspaces/{self.workspace.pk}/recipes/cost"
        for scorer, count in (("late-interaction", 1), ("toy", 0)):
            body = {**self.recipe.body, "rerank": {"scorer": scorer, "shortlist": 5}}
            body["select"] = {**body["select"], "empty_below": 0.5}
            told = [one for one in self.post(path, {"body": body})["remarks"] if one.startswith("select.empty_below")]
            self.assertEqual(len(told), count, told)

    def test_scorers_that_are_wrong_are_told_by_their_place(self):
        body = self.recipe.body
        wrong = {
            "rerank.scorers[1].scorer: 'none' is not installed": {"scorers": [{"scorer": "toy"}, {"scorer": "none"}]},
            "rerank.scorers[1].scorer: 'toy' stands there already": {"scorers": [{"scorer": "toy"}] * 2},
            "rerank.scorers: stands beside rerank.scorer": {"scorer": "toy", "scorers": [{"scorer": "toy"}]},
            "rerank.scorer: missing": {"shortlist": 5},
            "rerank.scorers: all weights are 0": {"scorers": [{"scorer": "toy", "weight": 0}]},
            "rerank.windows: 1 without rerank.window": {"scorer": "toy", "windows": 1},
            "rerank.window: 8 is not between 16 and 512": {"scorer": "toy", "window": 8},
            "rerank.scorers[0].weight: -1 is not between 0 and 100": {"scorers": [{"scorer": "toy", "weight": -1}]},
        }
        for said, rerank in wrong.items():
            path = f"/api/workspaces/{self.workspace.pk}/recipes/save"
            told = self.post(path, {"body": {**body, "rerank": rerank}}, 400)["detail"]
            self.assertIn(said, told)

    def texts(self, chunks):
        return open_pipeline(self.workspace, core_recipe(self.recipe)).texts.indexed(chunks.tolist())

    def test_the_floor_is_told_from_the_trial(self):
        found = self.get(self.root + "floor")
        self.assertEqual((found["k"], found["floor"], found["calibrated"]), (2, None, True))
        # So few questions can promise nothing, and say how many could.
        self.assertEqual([(one["floor"], one["needs"]) for one in found["promises"]],
                         [(None, 230), (None, 114), (None, 45)])  # fmt: skip
        with mock.patch("doppio.stages.reranked.service.SHARES", (0.9,)):
            (one,) = self.get(self.root + "floor")["promises"]
        right = [max(s for s, is_right in list(zip(q["scores"], q["relevant"], strict=True))[:2] if is_right)
                 for q in found["questions"] if any(q["relevant"][:2])]  # fmt: skip
        self.assertIn(one["floor"], right)
        self.assertLessEqual(one["lost"], len(right) - 1)
        pipeline = open_pipeline(self.workspace, core_recipe(self.recipe))
        rows = {row.question_id: row for row in self.trial.rows.select_related("question")}
        self.assertEqual({one["id"] for one in found["questions"]}, set(rows))
        for one in found["questions"]:
            row = rows[one["id"]]
            stage = Trace.from_json(row.trace).stage("reranked")
            np.testing.assert_allclose(one["scores"], stage.probability, atol=1e-5)
            relevant = relevance(pipeline.chunks, positions(pipeline), core_question(row.question))
            held = {int(chunk) for chunks in relevant.chunks for chunk in chunks}
            self.assertEqual(one["relevant"], [chunk in held for chunk in stage.chunks.tolist()])

    def test_without_a_reranker_there_is_no_floor_and_no_depth(self):
        measured(self.workspace, rerank=None)
        self.assertEqual(self.get(self.root + "floor")["questions"], [])
        found = self.get(self.root + "depths")
        self.assertEqual((found["points"], found["shortlist"]), ([], None))

    def test_a_question_about_nothing_known_is_refused_by_the_scorers_name(self):
        body = {"scorer": "none", "question": "x", "passages": ["y"]}
        self.assertIn(
            "none: no such scorer; there are late-interaction, toy",
            self.post("/api/scorers/try", body, 400)["detail"],
        )
        body["scorer"] = "compact-english"
        self.assertIn("compact-english: no such scorer", self.post("/api/scorers/try", body, 400)["detail"])
        self.post("/api/scorers/try", {**body, "passages": []}, 400)
        self.post("/api/scorers/try", {**body, "passages": ["x"] * 101}, 400)

    def test_a_scorer_is_tried_beside_separate_vectors(self):
        texts = [
            "A dog rides for 6 crowns a day.",
            "The gondola stops in strong wind.",
            "A dog rides for 6 crowns a day.",
        ]
        found = self.post("/api/scorers/try", {"scorer": "toy", "question": "dogs", "passages": texts})
        scores = CrossEncoder(self.models / "toy").score("dogs", [Passage(text) for text in texts]).scores
        np.testing.assert_allclose([row["score"] for row in found["rows"]], scores, atol=1e-4)
        encoder = Models(MODELS).encoder()
        cosines = encoder.vectors(texts) @ encoder.questions(["dogs"])[0]
        np.testing.assert_allclose([row["cosine"] for row in found["rows"]], cosines, atol=1e-4)
        self.assertEqual([row["position"] for row in found["rows"]], [1, 2, 3])
        self.assertEqual(sorted(row["rank"] for row in found["rows"]), [1, 2, 3])
        self.assertEqual(found["rows"][0]["rank"] + 1, found["rows"][2]["rank"])
        said = 1 / (1 + np.exp(-(0.8 * scores + 0.3)))
        np.testing.assert_allclose([row["probability"] for row in found["rows"]], said, atol=1e-4)

    def test_a_score_is_taken_apart_by_sentences(self):
        text = "The gondola stops in strong wind. Dogs wear a muzzle."
        asked = {"scorer": "toy", "question": "wind", "passage": text}
        found = self.post("/api/scorers/rests-on", asked)
        # Title and headings that stood before a window change what its sentences are worth.
        other = self.post("/api/scorers/rests-on", {**asked, "around": ["Wind rules", "Reopening"]})
        self.assertEqual([row["start"] for row in other], [row["start"] for row in found])
        self.assertNotEqual([row["drop"] for row in other], [row["drop"] for row in found])
        scorer = CrossEncoder(self.models / "toy")
        scores = scorer.score(
            "wind", [Passage(text), *(Passage(text[: row["start"]] + text[row["end"] :]) for row in found)]
        )
        np.testing.assert_allclose([row["drop"] for row in found], scores.scores[0] - scores.scores[1:], atol=1e-3)
        self.assertEqual(len(found), 2)

    def test_scorers_are_listed_with_what_a_recipe_needs_to_know(self):
        found = {row["name"]: row for row in self.get("/api/scorers")}
        self.assertEqual(set(found), {"toy", "late-interaction"})
        self.assertEqual(
            (found["toy"]["blend"], found["toy"]["calibrated"], found["toy"]["remote"]), (0.5, True, False)
        )


class Fitted(WithToy, Committed):
    def setUp(self):
        self.use_toy()
        self.workspace, self.user = make_workspace(self.id())
        self.client.force_login(self.user)
        self.recipe, _ = measured(self.workspace, rerank={"scorer": "toy", "shortlist": 5})
        self.path = f"/api/workspaces/{self.workspace.pk}/stages/reranked/fit"
        patched = mock.patch("doppio.core.measure.fit_to_labels.LEAST", 2)
        patched.start()
        self.addCleanup(patched.stop)

    def fitted(self):
        job = self.post(self.path, status=202)
        self.assertEqual(self.post(self.path, status=202)["id"], job["id"])
        call_command("work", once=True)
        done = Job.objects.get(pk=job["id"])
        self.assertEqual(done.state, Job.DONE, done.message)
        return self.get(self.path)["versions"]

    def test_weights_are_fitted_kept_named_by_recipes_and_carried(self):
        (version,) = self.fitted()
        self.assertEqual((version["version"], version["questions"]), (1, 3))
        names = {weight["name"] for weight in version["weights"]}
        self.assertEqual(names, {"toy", "late-interaction", "fused", "dense", "sparse", "lacking", "heading", "codes",
                                 "length"})  # fmt: skip
        began = {weight["name"]: weight["start"] for weight in version["weights"]}
        # Today's order is the toy's score with half of the mix, which is where the weights begin.
        self.assertAlmostEqual(began["fused"], 0.5 * began["toy"], places=6)
        self.assertEqual({name for name, start in began.items() if start}, {"toy", "fused"})
        # Facts read titles and headings, which nothing else of this recipe does.
        pipeline = open_pipeline(self.workspace, core_recipe(self.recipe))
        self.assertEqual([one.title for one in pipeline.candidates([0])], [""])
        self.assertTrue(pipeline.candidates([0], headed=True)[0].title)
        # The same labels give the same weights, which are the same scorer.
        self.assertEqual(len(self.fitted()), 1)
        body = {**self.recipe.body, "rerank": {"scorer": version["name"], "shortlist": 5, "blend": 0, "floor": None}}
        recipe, trial = measured(self.workspace, rerank=body["rerank"])
        self.assertTrue(open_pipeline(self.workspace, core_recipe(recipe)).candidates([0])[0].title)
        for row in trial.rows.all():
            stage = Trace.from_json(row.trace).stage("reranked")
            np.testing.assert_allclose(np.sum([part.raw for part in stage.parts], axis=0), stage.raw, atol=1e-4)
            self.assertTrue((np.diff(stage.probability) <= 1e-6).all())
        self.pairs_are_told_alone(recipe)
        self.get_listed(version["name"])
        with tempfile.TemporaryDirectory() as place:
            file = Path(place) / "w.zip"
            pack(self.workspace, file)
            shutil.rmtree(self.models / version["name"])
            other = unpack(file, self.user, "Another")
        self.assertEqual([row.name for row in other.fitted_scorers.all()], [version["name"]])
        again = measure_recipe(other.recipes.filter(fingerprint=recipe.fingerprint).get(), Silent())
        self.assertEqual(again.stages, trial.stages)

    def pairs_are_told_alone(self, recipe):
        """The same pair has the same score in a shorter list."""
        short, _ = measured(self.workspace, rerank={**recipe.body["rerank"], "shortlist": 2})
        told = [open_pipeline(self.workspace, core_recipe(one)).ask("My puppy needs a ticket?").stage("reranked")
                for one in (recipe, short)]  # fmt: skip
        whole = dict(zip(told[0].chunks.tolist(), told[0].probability.tolist(), strict=True))
        for chunk, value in zip(told[1].chunks.tolist(), told[1].probability.tolist(), strict=True):
            self.assertAlmostEqual(value, whole[chunk], places=6)

    def get_listed(self, name):
        """Those of a workspace are for its own people alone."""
        listed = [row["name"] for row in self.get(f"/api/scorers?workspace={self.workspace.pk}")]
        self.assertIn(name, listed)
        self.assertNotIn(name, [row["name"] for row in self.get("/api/scorers")])
        _, stranger = make_workspace("elsewhere")
        self.client.force_login(stranger)
        self.assertNotIn(name, [r["name"] for r in self.get(f"/api/scorers?workspace={self.workspace.pk}")])
        self.client.force_login(self.user)

    def test_it_begins_from_the_weights_that_ship_where_they_weigh_what_the_recipe_does(self):
        weights = {name: {"weight": weight, "centre": 0.2, "spread": 2.0} for weight, name in
                   enumerate(("late-interaction", "fused", "length"), 1)}  # fmt: skip
        body = {"title": "weighed", "scorers": ["late-interaction"], "facts": ["fused", "length"], "weights": weights,
                "window": 64, "windows": 1, "calibration": CALIBRATION, "answerable": ANSWERABLE}  # fmt: skip
        write_fitted(self.models, FittedFolder.from_json("weighed", body, "here"))
        for scorer, others in (("late-interaction", 6), ("weighed", 0)):
            measured(self.workspace, rerank={"scorer": scorer, "shortlist": 5})
            began = {weight["name"]: weight["start"] for weight in self.fitted()[0]["weights"]}
            self.assertAlmostEqual(began.pop("fused"), 2 * began["late-interaction"], places=9)
            self.assertAlmostEqual(began.pop("length"), 3 * began.pop("late-interaction"), places=9)
            # A fact that those which ship do not weigh begins at nothing.
            self.assertEqual(list(began.values()), [0.0] * (others - 1 if others else 0))
        listed = self.get("/api/scorers")
        (row,) = (row for row in listed if row["name"] == "weighed")
        self.assertEqual((row["shipped"], row["fitted"], row["answerable"]), (True, True, True))
        traces = measured(self.workspace, rerank={"scorer": "weighed", "shortlist": 5})[1].rows.all()
        self.assertTrue(all(0 < Trace.from_json(row.trace).answered < 1 for row in traces))
        both = {"scorers": [{"scorer": "weighed"}, {"scorer": "toy"}], "shortlist": 5}
        beside, _ = measured(self.workspace, rerank=both)
        said = self.post(self.path + f"?recipe={beside.pk}", status=400)["detail"]
        self.assertIn("name them alone to fit them", said)

    def test_too_few_labels_and_recipes_that_cannot_be_fitted_are_told(self):
        with mock.patch("doppio.core.measure.fit_to_labels.LEAST", 20):
            job = self.post(self.path, status=202)
            call_command("work", once=True)
            said = Job.objects.get(pk=job["id"])
            self.assertEqual(said.state, Job.FAILED)
            self.assertIn("only 3 labelled questions have an answer in their shortlists; 20 are needed", said.message)
        self.assertEqual(self.get(self.path)["versions"], [])
        bare, _ = measured(self.workspace, rerank=None)
        self.assertIn("does not rerank", self.post(self.path + f"?recipe={bare.pk}", status=400)["detail"])


class Depths(WithToy, Committed):
    def setUp(self):
        self.use_toy()
        self.workspace, self.user = make_workspace(self.id())
        self.client.force_login(self.user)
        self.recipe, _ = measured(self.workspace, rerank={"scorer": "toy", "shortlist": 5})
        self.path = f"/api/workspaces/{self.workspace.pk}/stages/reranked/depths"

    def test_depths_are_measured_as_a_job_and_kept(self):
        self.assertEqual(self.get(self.path)["points"], [])
        job = self.post(self.path, status=202)
        self.assertEqual(self.post(self.path, status=202)["id"], job["id"])
        call_command("work", once=True)
        self.assertEqual(Job.objects.get(pk=job["id"]).state, Job.DONE, Job.objects.get(pk=job["id"]).message)
        found = self.get(self.path)
        answerable = [question for question in core_questions(self.workspace) if question.answerable]
        self.assertEqual((found["questions"], found["shortlist"]), (len(answerable), 5))
        self.assertEqual([point["depth"] for point in found["points"]], [1, 3, 5, 10, 15, 20, 30, 50])
        for point in found["points"]:
            self.assertGreater(point["seconds"], 0)
            self.assertLessEqual(point["recall"]["1"], point["recall"]["5"])
        # Another floor is no other measurement; another blend is.
        measured(self.workspace, rerank={"scorer": "toy", "shortlist": 3, "floor": 0.1})
        self.assertEqual(self.get(self.path)["points"], found["points"])
        measured(self.workspace, rerank={"scorer": "toy", "shortlist": 3, "blend": 2})
        self.assertEqual(self.get(self.path)["points"], [])

    def test_what_cannot_be_measured_is_told(self):
        shutil.rmtree(self.models / "toy")
        job = start_depths(self.recipe, self.user)
        call_command("work", once=True)
        job.refresh_from_db()
        self.assertEqual(job.state, Job.FAILED)
        self.assertIn("toy: no such scorer", job.message)
        plain, _ = measured(self.workspace, rerank=None)
        with self.assertRaisesMessage(Exception, "this recipe does not rerank"):
            measure_depths(plain, mock.Mock())


class Remote(WithToy, TestCase):
    def test_a_scorer_behind_an_endpoint_scores_as_the_one_that_runs_here(self):
        self.use_toy()
        own = CrossEncoder(self.models / "toy")
        server = stand_in_server(own, 0, "secret")
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        for close in (thread.join, server.server_close, server.shutdown):
            self.addCleanup(close)
        url = f"http://127.0.0.1:{server.server_address[1]}"
        folder = register_remote(self.models, "far", url, "secret", settings={"batch": 2})
        texts = [Passage(text) for text in ("rope", "wind at the tower", "rope", "cabin", "a dog")]
        np.testing.assert_allclose(
            RemoteScorer(folder).score("wind", texts).scores, own.score("wind", texts).scores, atol=1e-5
        )
        self.assertEqual(models.scorer("far").measure, own.measure)
        self.assertTrue({row["name"]: row for row in self.get_scorers()}["far"]["remote"])

    def get_scorers(self):
        _, user = make_workspace(self.id())
        self.client.force_login(user)
        return self.get("/api/scorers")
