"""Passages of many vectors: codes, cells and lists against plain loops, and a branch of them against its reranker."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from numba import njit

from doppio.core.branches.many.coding import encode
from doppio.core.branches.many.index import Asked, Held, ManyIndex, proposed
from doppio.core.branches.many.lists import cell_lists
from doppio.core.branches.many.survey import survey
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.kernels.lanes import LANES, best_sums
from doppio.core.models.joint import Passage
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import Segment, compress
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, more_documents, recipe

TEXT = "Where does a dog wear a muzzle?"


def segment_of(chunks, now=()):
    """A segment over lists of vectors, which lie in it in another order than its chunks."""
    width = chunks[0].shape[1] if chunks else 8
    codes, scales = compress(np.concatenate([np.empty((0, width)), *chunks[::-1]]).astype(np.float32))
    lengths = np.array([len(own) for own in chunks], np.int64)
    begins = np.cumsum(lengths[::-1])[::-1] - lengths
    nothing = np.zeros(1, np.int32)
    return Segment(np.stack([begins, lengths], 1), codes, scales, nothing, nothing, np.array(now, np.int64))


def made_up(seed, count, width=24, most=6, groups=5):
    """Chunks of unit vectors that lie in a few groups, as those of words do."""
    random = np.random.default_rng(seed)
    middles = random.normal(size=(groups, width))
    found = []
    for _ in range(count):
        rows = middles[random.integers(groups, size=random.integers(0, most + 1))] + 0.5 * random.normal(size=width)
        rows = rows + 0.3 * random.normal(size=rows.shape)
        found.append((rows / np.linalg.norm(rows, axis=1, keepdims=True)).astype(np.float32))
    return found


def question_of(seed, width=24, tokens=5):
    random = np.random.default_rng(seed)
    rows, weights = random.normal(size=(tokens, width)), random.random(tokens) + 0.1
    return Asked((rows / np.linalg.norm(rows, axis=1, keepdims=True)).astype(np.float32),
                 (weights / weights.sum()).astype(np.float32))  # fmt: skip


def decoded(codes, tokens):
    """The turned vectors that codes stand for: (m, p)."""
    left = codes.scale.by_byte[np.arange(codes.codes.shape[1]), codes.codes[tokens]].reshape(len(tokens), -1)
    return codes.scale.centers[codes.cells[tokens]] + left


def slow_score(own, asked):
    if not len(own):
        return -1.0
    return sum(float(weight) * max(float(row @ word) for row in own)
               for word, weight in zip(asked.vectors, asked.weights, strict=True))  # fmt: skip


class Lanes(unittest.TestCase):
    @given(st.integers(0, 2**32), st.integers(0, 9), st.integers(1, 5))
    def test_sums_are_those_of_a_plain_loop(self, seed, rows, width):
        random = np.random.default_rng(seed)
        begin, begins = random.integers(3, size=rows).astype(np.uint16), random.normal(size=(3, LANES))
        codes, tables = random.integers(256, size=(rows, width)), random.normal(size=(width, 256, LANES))
        begins, codes, tables = begins.astype(np.float32), codes.astype(np.uint8), tables.astype(np.float32)
        best = np.zeros(LANES, np.float32)
        first = rows // 3
        _kernel(first, rows, begin, begins, codes, width, tables, best)
        wanted = np.full(LANES, -np.inf, np.float32)
        for row in range(first, rows):
            own = begins[begin[row]].copy()
            for place in range(width):
                own += tables[place, codes[row, place]]
            wanted = np.maximum(wanted, own)
        np.testing.assert_array_equal(best, wanted)


class Lists(unittest.TestCase):
    @given(st.lists(st.lists(st.integers(0, 4), max_size=5), max_size=40), st.integers(1, 400))
    def test_each_cell_lists_its_chunks_once_and_in_order(self, chunks, apart):
        # Chunks without tokens between those with some, so that gaps take more than a byte.
        spread = [own for chunk in chunks for own in [*([[]] * (apart - 1)), chunk]]
        bounds = np.concatenate([[0], np.cumsum([len(own) for own in spread])]).astype(np.int64)
        cells = np.array([cell for own in spread for cell in own], np.uint16)
        found = cell_lists(cells, bounds, 5)
        for cell in range(5):
            wanted = [chunk for chunk, own in enumerate(spread) if cell in own]
            self.assertEqual(_read(found.gaps[found.begins[cell] : found.begins[cell + 1]].tolist()), wanted)


class Coding(unittest.TestCase):
    def test_more_bits_lie_nearer_and_eight_are_nearly_all(self):
        own = segment_of(made_up(3, 300, most=9))
        tokens = int(own.spans[:, 1].sum())
        rows = np.concatenate([own.codes[low : low + count] * own.scales[low : low + count, None]
                               for low, count in own.spans])  # fmt: skip
        missed = []
        for bits in (1, 2, 8):
            codes = encode(own, bits, 12)
            self.assertEqual(codes.codes.shape, (tokens, 24 * bits // 8))
            turned = rows @ codes.scale.turn
            missed.append(float(np.mean((turned - decoded(codes, np.arange(tokens))) ** 2)))
            self.assertTrue((np.diff(codes.scale.levels, axis=1) >= 0).all())
        self.assertLess(missed[1], 0.5 * missed[0])
        self.assertLess(missed[2], 1e-3 * missed[0])

    def test_with_as_many_numbers_products_stay_what_they_are(self):
        own = segment_of(made_up(4, 60, width=13))
        turn = encode(own, 8, 4).scale.turn
        self.assertEqual(turn.shape, (13, 16))
        rows = own.codes * own.scales[:, None]
        np.testing.assert_allclose(rows @ turn @ turn.T @ rows.T, rows @ rows.T, atol=1e-5)

    def test_the_same_vectors_give_the_same_codes(self):
        one, other = (encode(segment_of(made_up(5, 80)), 2, 6) for _ in range(2))
        for name in ("bounds", "cells", "codes"):
            np.testing.assert_array_equal(getattr(one, name), getattr(other, name))

    def test_nothing_is_searched_and_nothing_found(self):
        for chunks in ([], [np.empty((0, 24), np.float32)] * 3):
            own = segment_of(chunks)
            asked, tried = question_of(1, width=own.codes.shape[1]), {"probes": 1, "over_fetch": 1}
            found, scores = ManyIndex([Held(own, encode(own, 2, 0))]).search(asked, 5, tried)
            self.assertEqual((found.tolist(), scores.tolist()), (list(range(len(chunks))), [-1.0] * len(chunks)))


class Searching(unittest.TestCase):
    @settings(max_examples=30)
    @given(st.integers(0, 2**32), st.integers(1, 60), st.integers(1, 12))
    def test_comparing_all_is_the_slow_formula_however_chunks_are_spread(self, seed, count, depth):
        chunks, asked = made_up(seed, count), question_of(seed)
        found, scores = ManyIndex([Held(segment_of(chunks))]).search(asked, depth, None)
        wanted = np.array([slow_score(own, asked) for own in chunks])
        self.assertEqual(len(found), min(depth, count))
        np.testing.assert_allclose(scores, wanted[found], atol=0.01)
        np.testing.assert_allclose(scores, np.sort(wanted)[::-1][:depth], atol=0.01)
        half = count // 2
        # The second segment has a chunk more, which was deleted.
        parts = [Held(segment_of(chunks[:half])),
                 Held(segment_of([*chunks[half:], chunks[0]], [*range(half, count), -1]))]  # fmt: skip
        again = ManyIndex(parts).search(asked, depth, None)
        np.testing.assert_array_equal(again[0], found)
        np.testing.assert_array_equal(again[1], scores)

    @settings(max_examples=20, deadline=None)
    @given(st.integers(0, 2**32), st.sampled_from((1, 2, 8)), st.sampled_from((1, 3, 50)), st.booleans())
    def test_what_codes_propose_is_scored_in_full_and_all_of_it_is_all(self, seed, bits, probes, some):
        chunks, asked = made_up(seed, 200), question_of(seed, tokens=20)
        own = segment_of(chunks)
        index = ManyIndex([Held(own, encode(own, bits, 9))])
        allowed = np.random.default_rng(seed).random(200) < 0.6 if some else None
        exact = dict(zip(*(side.tolist() for side in index.search(asked, 200, None, allowed)), strict=True))
        found, scores = index.search(asked, 7, {"probes": probes, "over_fetch": 3}, allowed)
        self.assertEqual(len(found), 7)
        self.assertEqual(scores.tolist(), [exact[chunk] for chunk in found.tolist()])
        everything = index.search(asked, 7, {"probes": 9, "over_fetch": 30}, allowed)
        self.assertEqual(everything[0].tolist(), list(exact)[:7])

    def test_few_that_may_be_found_are_found_whatever_the_cells(self):
        own = segment_of(made_up(8, 300))
        index = ManyIndex([Held(own, encode(own, 1, 40))])
        allowed = np.zeros(300, bool)
        allowed[::37] = True
        found, _ = index.search(question_of(8), 50, {"probes": 1, "over_fetch": 1}, allowed)
        self.assertEqual(sorted(found.tolist()), np.flatnonzero(allowed).tolist())

    def test_codes_rank_nearly_as_the_vectors_that_they_stand_for(self):
        own, asked = segment_of(made_up(9, 400, most=12)), question_of(9)
        codes = encode(own, 2, 20)
        rows = decoded(codes, np.arange(len(codes.cells)))
        turned = Asked(asked.vectors @ codes.scale.turn, asked.weights)
        slow = [slow_score(rows[low:high], turned) for low, high in zip(codes.bounds, codes.bounds[1:], strict=False)]
        wanted = set(np.argsort(slow)[::-1][:200].tolist())
        # All are looked at by their codes, and half of them go on.
        found = proposed(codes, asked, 10, {"probes": 20, "over_fetch": 20}, np.ones(400, bool))
        self.assertEqual(len(found), 200)
        self.assertGreaterEqual(len(wanted & set(found.tolist())), 199)

    def test_a_survey_measures_codes_beside_comparing_all(self):
        own = segment_of(made_up(10, 300))
        exact, *points = survey(own, [question_of(seed) for seed in range(4)])
        self.assertEqual((exact.structure, exact.recall), ({"codes": "none"}, 1.0))
        self.assertEqual({point.structure["codes"] for point in points}, {"8", "2", "1"})
        for point in points:
            self.assertTrue(0.3 < point.recall <= 1 and point.per_second > 0 and point.bytes > 0, point)


class Branches(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))

    def built(self, corpus, **settings):
        branch = {"id": "late", "kind": "late-interaction", **settings}
        body = recipe(branches=[branch], rerank={"scorer": "late-interaction", "shortlist": 5})
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, self.builder.chunks(corpus, key, body))
        self.builder.indexes(key, body, texts)
        return self.builder.open(key, body, texts)

    def test_a_branch_scores_as_its_reranker_does(self):
        corpus = more_documents(60)
        pipeline = self.built(corpus, codes="none")
        [(chunks, scores)] = pipeline.branches["late"].search_many([TEXT], None, 30)
        scorer = pipeline.reranker.parts[0].scorer
        again = scorer.score(TEXT, [Passage("", chunk) for chunk in chunks.tolist()]).scores
        np.testing.assert_allclose(scores, again, atol=1e-3)
        self.assertIn("muzzle", pipeline.texts.texts(chunks[:1].tolist())[0].lower())
        for codes in ("8", "2", "1"):
            coded = self.built(corpus, codes=codes, over_fetch=6).branches["late"]
            [(found, own)] = coded.search_many([TEXT], None, 5)
            self.assertEqual(found[0], chunks[0], codes)
            np.testing.assert_array_equal(own, [scores[chunks.tolist().index(c)] for c in found.tolist()])

    def test_a_corpus_that_grows_answers_as_one_built_afresh(self):
        small, large = documents(), more_documents(12)
        self.built(small)
        grown = self.built(large, codes="none")
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))
        fresh = self.built(large, codes="none")
        for one, other in zip(grown.branches["late"].search_many([TEXT], None, 9),
                              fresh.branches["late"].search_many([TEXT], None, 9), strict=True):  # fmt: skip
            np.testing.assert_array_equal(one[0], other[0])
            np.testing.assert_array_equal(one[1], other[1])


def _read(gaps):
    found, chunk, gap, shift = [], -1, 0, 0
    for byte in gaps:
        gap |= (byte & 127) << shift
        shift += 7
        if byte < 128:
            chunk, gap, shift = chunk + gap, 0, 0
            found.append(chunk)
    return found


@njit
def _kernel(first, after, begin, begins, codes, width, tables, best):
    best_sums(first, after, begin, begins, codes, width, tables, best)


if __name__ == "__main__":
    unittest.main()
