"""A whole pipeline over the small corpus: what goes on from each stage, and what is measured there."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ModelFolderError
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import compress
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from doppio.core.trace import BEYOND, OVER_BUDGET, UNDER_FLOOR, UNDER_FLOOR_AND_BEYOND, Trace
from tests.core.corpus import MODELS, documents, recipe

SPARSE = {"id": "sparse", "kind": "bm25"}
DENSE = {"id": "dense", "kind": "vector"}


class Pipelines(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.builder = Builder(ArtifactStore(Path(place.name)), Models(MODELS))
        cls.corpus = documents()
        cls.names = [document.id for document in cls.corpus]

    def pipeline(self, **changes):
        given = recipe(**changes)
        key = corpus_fingerprint(self.corpus)
        table = self.builder.chunks(self.corpus, key, given)
        texts = CorpusTexts(self.corpus, table)
        self.builder.indexes(key, given, texts)
        return self.builder.open(key, given, texts)

    def test_many_questions_are_answered_as_each_alone(self):
        pipeline = self.pipeline()
        asked = ["What is E-417?", "my puppy", "wind", "", "the"]
        for question, together in zip(asked, pipeline.ask_many(asked), strict=True):
            alone = pipeline.ask(question)
            for one, other in zip(alone.stages, together.stages, strict=True):
                self.assertEqual(one.chunks.tolist(), other.chunks.tolist(), (question, one.stage))
                np.testing.assert_allclose(one.scores, other.scores, atol=1e-5)

    def test_each_stage_takes_what_the_one_before_passed_on(self):
        trace = self.pipeline().ask("Does a dog need a muzzle?")
        fused, reranked, context = (trace.stage(name) for name in ("fused", "reranked", "context"))
        branches = {int(chunk) for branch in trace.branches for chunk in branch.chunks}
        self.assertEqual(set(fused.chunks.tolist()), branches)
        self.assertEqual(len(fused.passed), 5)
        self.assertEqual(set(reranked.chunks.tolist()), set(fused.passed.tolist()))
        self.assertEqual(context.chunks.tolist(), reranked.passed.tolist())
        for place, before in enumerate(reranked.before.tolist()):
            self.assertEqual(fused.passed[before - 1], reranked.chunks[place])

    def test_the_dense_branch_returns_its_depth_and_the_sparse_one_may_return_nothing(self):
        trace = self.pipeline(branches=[SPARSE, {**DENSE, "depth": 3}]).ask("zzz qqq")
        self.assertEqual(len(trace.stage("sparse").chunks), 0)
        self.assertEqual(len(trace.stage("dense").chunks), 3)

    def test_a_floor_drops_what_scores_below_it_and_says_so(self):
        scores = self.pipeline().ask("dog").stage("reranked").scores
        floor = float((scores[0] + scores[1]) / 2)
        stage = (
            self.pipeline(rerank={"scorer": "late-interaction", "shortlist": 5, "floor": floor})
            .ask("dog")
            .stage("reranked")
        )
        self.assertEqual(len(stage.passed), 1)
        self.assertEqual(stage.reasons[:3], ("", UNDER_FLOOR, UNDER_FLOOR_AND_BEYOND))
        self.assertEqual(stage.ranking.tolist(), stage.passed.tolist())

    def test_a_floor_above_all_leaves_the_context_empty(self):
        trace = self.pipeline(rerank={"scorer": "late-interaction", "shortlist": 5, "floor": 1}).ask("dog")
        self.assertEqual(len(trace.stage("context").chunks), 0)
        self.assertEqual(trace.tokens, 0)

    def test_what_does_not_fit_the_budget_is_left_out_and_says_so(self):
        full = self.pipeline().ask("dog").stage("context")
        tokens = self.pipeline().chunks.tokens[full.chunks]
        trace = self.pipeline(select={"k": 2, "budget_tokens": int(tokens[0])}).ask("dog")
        self.assertEqual(trace.stage("context").reasons, ("", OVER_BUDGET))
        self.assertEqual(trace.tokens, int(tokens[0]))

    def test_without_a_reranker_the_fused_order_is_kept_and_the_context_takes_the_first(self):
        trace = self.pipeline(rerank=None).ask("dog")
        self.assertFalse(trace.has("reranked"))
        fused = trace.stage("fused")
        self.assertEqual(fused.reasons[:3], ("", "", BEYOND))
        self.assertEqual(trace.stage("context").chunks.tolist(), fused.chunks[:2].tolist())

    def test_one_branch_alone_is_a_pipeline_too(self):
        for branch in (SPARSE, DENSE):
            trace = self.pipeline(branches=[branch], rerank=None).ask("dog muzzle")
            self.assertEqual(trace.stage("fused").chunks.tolist(), trace.stage(branch["id"]).chunks.tolist())

    def test_two_sparse_branches_with_other_settings_stand_side_by_side(self):
        plain = {"id": "plain", "kind": "bm25", "analysis": {"stem": False}}
        trace = self.pipeline(branches=[SPARSE, plain], rerank=None).ask("borrow muzzle")
        self.assertGreater(len(trace.stage("sparse").chunks), 0)
        self.assertEqual(trace.stage("fused").branch_ranks.shape[1], 2)

    def test_a_weight_of_zero_silences_a_branch(self):
        fusion = {"method": "scaled-scores", "weights": {"sparse": 0}}
        trace = self.pipeline(rerank=None, fusion=fusion).ask("dog muzzle")
        dense = trace.stage("dense").chunks.tolist()
        self.assertEqual(trace.stage("context").chunks.tolist(), dense[:2])

    def test_every_stage_is_timed(self):
        seconds = self.pipeline().ask("dog").seconds
        expected = ["encode question", "sparse", "dense", "fused", "reranked", "context"]
        self.assertEqual(list(seconds), expected)
        self.assertTrue(all(value > 0 for value in seconds.values()))

    def test_a_trace_survives_json(self):
        trace = self.pipeline().ask("What is E-417?")
        again = Trace.from_json(trace.to_json())
        for one, other in zip(trace.stages, again.stages, strict=True):
            np.testing.assert_array_equal(one.chunks, other.chunks)
            np.testing.assert_array_equal(one.scores, other.scores)
            np.testing.assert_array_equal(one.kept, other.kept)

    def test_a_trial_measures_every_stage_and_its_levels_never_rise_after_fusion(self):
        text = {document.id: document.text for document in self.corpus}

        def span(name, quote):
            start = text[name].index(quote)
            return Span(name, start, start + len(quote))

        questions = [
            Question("1", "What is E-417?", (span("alarms.csv", "Code: E-417"),)),
            Question("2", "my puppy's fare", (span("dogs.html", "A dog rides for 6 crowns"),)),
            Question("3", "which document is about wind?", (Span("wind.md", None, None),)),
            Question("4", "who built it?"),
        ]
        trial = run_trial(self.pipeline(), self.names, questions, cutoffs=[1, 5])
        self.assertEqual(list(trial.stages), ["sparse", "dense", "fused", "reranked", "context"])
        self.assertEqual((trial.answerable, sum(trial.ledger.values())), (3, 4))
        levels = [trial.levels[stage] for stage in ("documents", "chunks", "fused", "reranked", "context")]
        self.assertEqual(levels, sorted(levels, reverse=True))
        self.assertEqual(trial.levels["context"], trial.ledger["delivered"])
        for row in trial.rows:
            for stage, rank in row.ranks.items():
                if rank is not None:
                    ranked = row.trace.stage(stage).chunks
                    self.assertTrue(row.relevance.any_of(ranked[rank - 1 : rank])[0])
                    self.assertFalse(row.relevance.any_of(ranked[: rank - 1]).any())

    def test_a_model_that_is_not_there_is_named_with_what_to_do(self):
        with tempfile.TemporaryDirectory() as empty, self.assertRaisesRegex(ModelFolderError, "doppio setup"):
            Models(Path(empty)).encoder()


class Compressed(unittest.TestCase):
    def test_one_byte_a_number_errs_by_half_a_step_at_most(self):
        random = np.random.default_rng(2)
        vectors = random.normal(size=(50, 64)).astype(np.float32)
        vectors[7] = 0
        codes, scales = compress(vectors)
        error = np.abs(codes.astype(np.float32) * scales[:, None] - vectors)
        self.assertTrue((error <= scales[:, None] / 2 + 1e-7).all())
        self.assertEqual(codes.dtype, np.int8)
