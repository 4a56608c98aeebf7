"""A whole pipeline over the small corpus: what goes on from each stage, and what is measured there."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ModelFolderError
from doppio.core.floors import above
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
        made = recipe(**changes)
        key = corpus_fingerprint(self.corpus)
        table = self.builder.chunks(self.corpus, key, made)
        texts = CorpusTexts(self.corpus, table)
        self.builder.indexes(key, made, texts)
        return self.builder.open(key, made, texts)

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

    def test_a_floor_of_a_branch_keeps_its_hits_out_of_the_mix_and_in_sight(self):
        plain = self.pipeline().ask("Does a dog need a muzzle?")
        scores = plain.stage("dense").scores
        floor = float((scores[1] + scores[2]) / 2)
        for told, left in (
            ({"floor": floor}, 2),
            ({"floor_share": 0.999 * float(scores[1] / scores[0])}, 2),
            ({"floor": 1}, 0),
        ):
            pipeline = self.pipeline(branches=[SPARSE, {**DENSE, **told}])
            trace = pipeline.ask("Does a dog need a muzzle?")
            dense, fused = trace.stage("dense"), trace.stage("fused")
            self.assertEqual(dense.chunks.tolist(), plain.stage("dense").chunks.tolist())
            self.assertEqual((len(dense.passed), dense.ranking.tolist()), (left, dense.passed.tolist()))
            self.assertEqual(set(dense.reasons[left:]), {UNDER_FLOOR})
            both = {*dense.passed.tolist(), *trace.stage("sparse").chunks.tolist()}
            self.assertEqual(set(fused.chunks.tolist()), both)
            # Whoever asks for the mix alone gets the same one.
            (again, first), *_ = pipeline.fused_many(["Does a dog need a muzzle?"])
            self.assertEqual(again.chunks.tolist(), fused.chunks.tolist())
            self.assertEqual(len(first.fused), len(fused.chunks))

    def test_a_floor_of_the_mix_cuts_what_goes_on(self):
        scores = self.pipeline(rerank=None, fusion={"method": "scaled-scores"}).ask("dog").stage("fused").scores
        share = 0.999 * float(scores[1] / scores[0])
        pipeline = self.pipeline(rerank=None, fusion={"method": "scaled-scores", "floor_share": share})
        fused = pipeline.ask("dog").stage("fused")
        self.assertEqual(fused.reasons[:3], ("", "", UNDER_FLOOR_AND_BEYOND))
        self.assertEqual(len(next(iter(pipeline.fused_many(["dog"])))[0].chunks), len(fused.ranking))
        empty = self.pipeline(rerank=None, fusion={"method": "scaled-scores", "floor": 2}).ask("dog")
        self.assertEqual(len(empty.stage("context").chunks), 0)

    def test_a_relative_floor_after_reranking_is_of_the_best_of_the_shortlist(self):
        scores = self.pipeline().ask("dog").stage("reranked").scores
        share = 0.999 * float(scores[1] / scores[0])
        rerank = {"scorer": "late-interaction", "shortlist": 5, "floor_share": share}
        stage = self.pipeline(rerank=rerank).ask("dog").stage("reranked")
        self.assertEqual([reason.startswith(UNDER_FLOOR) for reason in stage.reasons[:3]], [False, False, True])

    def test_an_answer_under_a_floor_is_told_apart_from_one_that_nothing_found(self):
        asked = [Question("q", "Does a dog need a muzzle?", (Span("dogs.html", 0, 10_000),))]
        for changes, expected in (
            ({"branches": [SPARSE, DENSE]}, "delivered"),
            ({"branches": [{**SPARSE, "floor": 900}, {**DENSE, "floor": 1}]}, "under the floor"),
            ({"fusion": {"method": "scaled-scores", "floor": 2}}, "under the floor"),
        ):
            trial = run_trial(self.pipeline(rerank=None, **changes), self.names, asked)
            self.assertEqual(trial.rows[0].cause, expected)
            self.assertEqual(sum(trial.ledger.values()), 1)

    @given(
        st.lists(st.floats(-5, 5, width=32), max_size=20), st.none() | st.floats(-5, 5), st.none() | st.floats(0, 1)
    )
    def test_floors_cut_the_tail_of_a_ranking(self, values, floor, share):
        scores = np.sort(np.array(values, np.float32))[::-1]
        kept = above(scores, {"floor": floor, "floor_share": share})
        self.assertTrue((np.diff(kept.astype(int)) <= 0).all())
        for value, on in zip(scores.tolist(), kept.tolist(), strict=True):
            low = floor is not None and value < np.float32(floor)
            poor = share is not None and scores[0] > 0 and value < np.float32(share * float(scores[0]))
            self.assertEqual(on, not (low or poor))

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
