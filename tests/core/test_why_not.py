"""Why a passage is not handed on: its places are those of the trace, and every change that is told brings it in."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.measure.sweep_plan import with_settings
from doppio.core.measure.why_not import BEYOND_DEPTH, NOT_FOUND, why_not
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from doppio.core.trace import UNDER_FLOOR
from tests.core.corpus import MODELS, documents, recipe

QUESTION = "Does a dog need a muzzle?"


class WhyNot(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.builder = Builder(ArtifactStore(Path(place.name)), Models(MODELS))
        cls.corpus = documents()

    def pipeline(self, **changes):
        made, key = recipe(**changes), corpus_fingerprint(self.corpus)
        texts = CorpusTexts(self.corpus, self.builder.chunks(self.corpus, key, made))
        self.builder.indexes(key, made, texts)
        return self.builder.open(key, made, texts)

    def check(self, pipeline):
        """Every chunk: what is told of it, beside the trace; and each change, tried from the first branch on."""
        trace = pipeline.ask(QUESTION)
        changes = 0
        for chunk in range(len(pipeline.chunks)):
            told = why_not(pipeline, QUESTION, [chunk])
            self.assertEqual(told.left == "", chunk in trace.stage("context").passed)
            for own in told.stood:
                stage = trace.stage(own.stage)
                self.assertEqual(own.on, chunk in stage.passed)
                if chunk in stage.chunks:
                    rank = stage.chunks.tolist().index(chunk)
                    self.assertEqual((own.rank, own.reason), (rank + 1, stage.reasons[rank]))
                    self.assertAlmostEqual(own.score, float(stage.scores[rank]), places=5)
                elif own.rank is not None:
                    self.assertGreater(own.rank, len(stage.chunks))
                    self.assertEqual(own.reason, BEYOND_DEPTH)
                else:
                    self.assertEqual(own.reason, NOT_FOUND)
            for change in told.changes:
                other = replace(pipeline, recipe=with_settings(pipeline.recipe, {change.path: change.needed}))
                self.assertIn(chunk, other.ask(QUESTION).stage("context").passed, change)
                changes += 1
        return changes

    def test_places_are_those_of_the_trace_and_changes_bring_it_in(self):
        roomy = {"k": 2, "budget_tokens": 1000}
        self.assertGreater(self.check(self.pipeline(rerank=None, select=roomy)), 3)
        small = [{"id": "sparse", "kind": "bm25", "depth": 2}, {"id": "dense", "kind": "vector", "depth": 2}]
        for rerank in (None, {"scorer": "late-interaction", "shortlist": 5}):
            self.check(self.pipeline(branches=small, select=roomy, rerank=rerank))

    def test_ranks_beyond_the_depth_are_those_of_a_deeper_search(self):
        few = self.pipeline(rerank=None, branches=[{"id": "dense", "kind": "vector", "depth": 1}])
        many = self.pipeline(rerank=None, branches=[{"id": "dense", "kind": "vector", "depth": 50}])
        order = many.ask(QUESTION).stage("dense").chunks.tolist()
        for rank, chunk in enumerate(order, 1):
            (own, *_), left = (found := why_not(few, QUESTION, [chunk])).stood, found.left
            self.assertEqual((own.rank, left), (rank, "" if rank == 1 else "dense"))

    def test_a_floor_that_keeps_it_out_is_what_would_have_to_go(self):
        plain = self.pipeline(rerank=None)
        second = int(plain.ask(QUESTION).stage("context").chunks[1])
        floored = self.pipeline(rerank=None, fusion={"method": "scaled-scores", "floor_share": 1})
        told = why_not(floored, QUESTION, [second])
        self.assertEqual((told.left, told.stood[2].reason), ("fused", UNDER_FLOOR))
        self.assertIn(("fusion.floor_share", 1, None), [(one.path, one.now, one.needed) for one in told.changes])

    def test_of_several_the_one_that_came_furthest_is_told_with_what_it_lacks(self):
        pipeline = self.pipeline(rerank=None)
        order = pipeline.ask(QUESTION).stage("fused").chunks.tolist()
        self.assertEqual(why_not(pipeline, QUESTION, order[::-1]).chunk, order[0])
        lacking = why_not(pipeline, "dog zeppelin", [order[0]]).lacking
        self.assertIn("zeppelin", lacking)
        self.assertNotIn("dog", lacking)
