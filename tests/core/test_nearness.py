"""Nearness of terms beside BM25: the paper's formula by plain loops, and what is told of it."""

import itertools
import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.branches.sparse.nearness import WINDOW, Placed, nearness
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import RecipeError
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe

WORDS = ("wind", "gondola", "rope", "the", "tower", "E-417", "stops", "of")
ASKED = {"wind": 2.0, "gondola": 1.0, "rope": 3.0, "e-417": 2.5, "stop": 0.5, "none": 9.0, "nothing": 0.0}


def slow(steps, weights, norm, k1):
    """Every pair of places, chunk by chunk; `steps` are the terms at each word."""
    pairs = {}
    placed = [(term, place) for place, terms in enumerate(steps) for term in terms if weights.get(term, 0) > 0]
    for (one, at), (other, there) in itertools.combinations(placed, 2):
        apart = abs(at - there)
        if one != other and 0 < apart <= WINDOW:
            pair = frozenset((one, other))
            pairs[pair] = pairs.get(pair, 0.0) + 1 / apart**2
    return sum(min(weights[term] for term in pair) * near * (k1 + 1) / (near + norm) for pair, near in pairs.items())


class Formula(unittest.TestCase):
    @given(st.lists(st.lists(st.sampled_from(WORDS), max_size=14), min_size=1, max_size=5), st.floats(0.1, 3))
    def test_is_that_of_plain_loops(self, chunks, k1):
        texts, analysis, placed = [" ".join(words) for words in chunks], Analysis(), Placed(Analysis())
        norms = np.array([k1 * (0.5 + len(words) / 10) for words in chunks], np.float32)
        own = placed.of(range(len(texts)), lambda wanted: [texts[chunk] for chunk in wanted])
        found = nearness(own, placed.numbers(list(ASKED)), np.array(list(ASKED.values())), norms, k1)
        for text, norm, own in zip(texts, norms, found, strict=True):
            steps = [[term.text for term in step.terms] for step in analysis.steps(text)]
            self.assertAlmostEqual(own, slow(steps, ASKED, float(norm), k1), places=6)

    @given(st.lists(st.sampled_from((*WORDS, "hanging car", "cabin")), max_size=12).map(" ".join))
    def test_places_are_words_with_synonyms_too(self, text):
        plain, alike = Analysis(), Analysis(synonyms=(("gondola", "hanging car", "cabin"),))
        for analysis in (plain, alike):
            numbering = analysis.numbering()
            numbers, places = numbering.placed(text)
            names = list(numbering.vocabulary)
            told = [(term.text, place) for place, step in enumerate(analysis.steps(text)) for term in step.terms]
            self.assertEqual([(names[number], place) for number, place in zip(numbers, places, strict=True)], told)


class InABranch(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        corpus = documents()
        builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))
        given_ = recipe(
            branches=[
                {"id": "near", "kind": "bm25", "nearness": 1.5, "k1": 1.3},
                {"id": "plain", "kind": "bm25", "k1": 1.3},
            ],
            rerank=None,
        )
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, builder.chunks(corpus, key, given_))
        builder.indexes(key, given_, texts)
        cls.pipeline = builder.open(key, given_, texts)

    def test_it_is_added_to_the_score_and_told(self):
        near, plain = self.pipeline.branches["near"], self.pipeline.branches["plain"]
        moved = 0
        for question in ("mean wind of the gondola", "tension carriage at a limit switch", "dog", "zebra"):
            [(chunks, scores)] = near.search_many([question], None, 50)
            [(same, without)] = plain.search_many([question], None, 50)
            self.assertEqual(sorted(chunks.tolist()), sorted(same.tolist()))
            before = dict(zip(same.tolist(), without.tolist(), strict=True))
            rows = near.explain(question, chunks.tolist())
            for chunk, score, row in zip(chunks.tolist(), scores.tolist(), rows, strict=True):
                self.assertAlmostEqual(score, before[chunk] + row.near, places=4)
                self.assertAlmostEqual(score, sum(one.share for one in row.terms) + row.near, places=4)
                text = self.pipeline.texts.indexed([chunk])[0]
                steps = [[term.text for term in step.terms] for step in Analysis().steps(text)]
                index = near.index
                weights = {
                    one.term: math.log1p((index.count - held + 0.5) / (held + 0.5))
                    for one in row.terms
                    if (held := one.chunks_with_term)
                }
                length = sum(map(len, steps))
                norm = 1.3 * (1 - 0.75 + 0.75 * length / index.mean)
                self.assertAlmostEqual(row.near, 1.5 * slow(steps, weights, norm, 1.3), places=4)
                moved += row.near > 0
            self.assertEqual([row.near for row in plain.explain(question, chunks.tolist())], [0.0] * len(chunks))
        self.assertGreater(moved, 2)

    def test_with_fields_it_is_refused(self):
        with self.assertRaisesRegex(RecipeError, "nearness: goes with the text as one"):
            recipe(branches=[{"id": "a", "kind": "bm25", "nearness": 1, "fields": {"body": {}}}], rerank=None)
