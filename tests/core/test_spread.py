"""Indexes whose segments stand elsewhere answer as one index does, to the last bit; what is absent is told."""

import pickle
import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.branches.spread import Answers, leave_out, left_out, packed, unpacked
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.models.registry import Models
from doppio.core.question.reading import Beside
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.segments import of_documents, stretches
from doppio.core.text.document import corpus_fingerprint
from doppio.core.trace import Trace
from tests.core.corpus import MODELS, more_documents, recipe

BRANCHES = [
    {"id": "sparse", "kind": "bm25", "nearness": 1},
    {"id": "plus", "kind": "bm25", "variant": "plus"},
    {"id": "likely", "kind": "bm25", "variant": "dirichlet"},
    {"id": "fielded", "kind": "bm25", "fields": {"title": {"weight": 3, "analysis": {"stem": False}}, "body": {}}},
    {"id": "added", "kind": "expanded", "words": 200, "passage_terms": 4},
    {"id": "dense", "kind": "vector"},
    {"id": "graph", "kind": "vector", "structure": {"kind": "hnsw"}},
    {"id": "far", "kind": "vector", "metric": "euclidean"},
]
QUESTIONS = [
    "What is E-417?",
    "rope wind cabin",
    "how long does a dog ride on the deck",
    "nothing of this",
    "ice snow",
]


class Spreading:
    """Segments on two machines that are none: what goes there and back is copied, as over a network."""

    def __init__(self, place, opened, absent=()):
        self.place, self.absent, self.asked, self.opened = place, absent, [], {}
        self.groups = [opened.stands[::2], opened.stands[1::2]]

    def ask(self, index, method, *told):
        self.asked.append(method)
        found = []
        for number, stands in enumerate(self.groups):
            if number in self.absent:
                leave_out(f"machine {number}")
                continue
            if (number, index) not in self.opened:
                self.opened[number, index] = index.open(self.place, stands, *index.given)
            index_there, given_there = self.opened[number, index], pickle.loads(pickle.dumps(told))
            found.append(pickle.loads(pickle.dumps(getattr(index_there, method)(*given_there))))
        return Answers(found, not self.absent)


class Whole(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.place = Place(Models(MODELS), ArtifactStore(folder))
        cls.recipe = recipe(branches=BRANCHES, rerank=None, select={"k": 3, "diversity": {"kind": "vectors"}})
        documents = more_documents(90)
        key = corpus_fingerprint(documents)
        builder = Builder(cls.place.store, cls.place.models, most_chunks=45)
        texts = CorpusTexts(documents, builder.chunks(documents, key, cls.recipe))
        builder.indexes(key, cls.recipe, texts)
        # Some documents go, so that segments hold chunks that are dead.
        cls.documents = [one for at, one in enumerate(documents) if at % 11]
        cls.key = corpus_fingerprint(cls.documents)
        cls.texts = CorpusTexts(cls.documents, builder.chunks(cls.documents, cls.key, cls.recipe))
        builder.indexes(cls.key, cls.recipe, cls.texts)
        cls.alone = builder.open(cls.key, cls.recipe, cls.texts)
        cls.parts = len(builder.lists.read(builder.keys(cls.key, cls.recipe).chunks).parts)

    def spread(self, **given):
        spreads = []

        def made(opened):
            spreads.append(Spreading(self.place, opened, **given))
            return spreads[0]

        builder = Builder(self.place.store, self.place.models, most_chunks=45, spread=made)
        return builder.open(self.key, self.recipe, self.texts), spreads[0]

    def test_every_stage_is_that_of_one_index(self):
        self.assertGreater(self.parts, 2)
        spread, _ = self.spread()
        for beside in (Beside(), Beside(conditions="document is more-0*")):
            for question in QUESTIONS:
                mine, other = self.alone.ask(question, beside), spread.ask(question, beside)
                for one, two in zip(mine.stages, other.stages, strict=True):
                    np.testing.assert_array_equal(one.chunks, two.chunks, f"{question} {one.stage}")
                    np.testing.assert_array_equal(one.scores, two.scores, f"{question} {one.stage}")
                self.assertEqual(other.absent, ())

    def test_why_a_chunk_is_scored_so_is_told_alike(self):
        spread, asked = self.spread()
        for name in ("sparse", "likely", "fielded", "added"):
            one, two = self.alone.branches[name], spread.branches[name]
            for question in QUESTIONS[:3]:
                [(chunks, _)] = one.search_many([question], *self.asked(name, question), 20)
                self.assertEqual(one.explain(question, chunks.tolist()), two.explain(question, chunks.tolist()))
                self.assertEqual(one.unfound(question), two.unfound(question))
            self.assertEqual(one.rarity(["rope", "E-417", "unheard"]), two.rarity(["rope", "E-417", "unheard"]))
            self.assertEqual(one.body.vocabulary(), two.body.vocabulary())
            for mine, theirs in zip(one.body.holders("rope"), two.body.holders("rope"), strict=True):
                np.testing.assert_array_equal(mine, theirs)
        wanted = [5, 0, 31]
        np.testing.assert_array_equal(
            self.alone.branches["dense"].vectors_of(wanted), spread.branches["dense"].vectors_of(wanted)
        )
        before = asked.asked.count("own_statistics")
        spread.branches["sparse"].rarity(["rope", "E-417"])
        self.assertEqual(asked.asked.count("own_statistics"), before, "statistics are asked for once")

    def asked(self, name, question):
        branch = self.alone.branches[name]
        return [branch.encoder.questions([question]) if branch.encoder else None]

    def test_what_does_not_answer_is_told_and_the_rest_answers(self):
        pipeline, spread = self.spread()
        spread.absent = (1,)
        trace = pipeline.ask("rope wind cabin")
        self.assertEqual(trace.absent, ("machine 1",))
        self.assertGreater(len(trace.stage("sparse").chunks), 0)
        self.assertEqual(Trace.from_json(trace.to_json()).absent, trace.absent)
        spread.absent = ()
        whole = pipeline.ask("rope wind cabin")
        np.testing.assert_array_equal(
            whole.stage("sparse").scores, self.alone.ask("rope wind cabin").stage("sparse").scores
        )
        with self.assertRaisesRegex(DoppioError, "Not all segments of the index answered"):
            self.spread(absent=(0,))

    def test_what_was_left_out_is_told_to_who_asks_and_to_nobody_else(self):
        leave_out("nobody listens")
        with left_out() as outer:
            leave_out("one")
            with left_out() as inner:
                leave_out("two")
        self.assertEqual((outer, inner), ({"one"}, {"two"}))

    @given(st.lists(st.booleans(), max_size=40))
    def test_a_mask_travels(self, bits):
        mask = np.array(bits, bool)
        np.testing.assert_array_equal(unpacked(packed(mask)), mask)
        self.assertIsNone(unpacked(packed(None)))


class Stretches(unittest.TestCase):
    def test_segments_hold_no_more_than_they_are_to_and_every_chunk_once(self):
        random = np.random.default_rng(0)
        for most in (1, 3, 10, 1000):
            owner = np.sort(random.integers(0, 30, 120)).astype(np.int64)
            table = ChunkTable.flat(owner, *(np.arange(120, dtype=np.int64) for _ in range(4)))
            found = stretches(table, 30, most)
            self.assertEqual([low for low, _ in found[1:]], [high for _, high in found[:-1]])
            self.assertEqual((found[0][0], found[-1][1]), (0, 30))
            parts = [of_documents(table, low, high) for low, high in found]
            np.testing.assert_array_equal(np.concatenate([part.start for part in parts]), table.start)
            for part, (low, high) in zip(parts, found, strict=True):
                if high - low > 1:
                    self.assertLessEqual(len(part), most + 2 * np.bincount(owner).max())
                self.assertTrue((part.document < high - low).all())
        self.assertEqual(stretches(table, 0, 5)[0][0], 0)


if __name__ == "__main__":
    unittest.main()
