"""Structures against the exact search, and the exact search against plain NumPy."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.distance import cdist

from doppio.core.branches.dense.bits import bit_candidates, bit_codes
from doppio.core.branches.dense.codes import byte_codes
from doppio.core.branches.dense.encoding import squares
from doppio.core.branches.dense.equals import Groups
from doppio.core.branches.dense.graph import build_graph, extended, graph_candidates, reordered, without
from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.kmeans import kmeans, nearest_center
from doppio.core.branches.dense.metric import COSINE, EUCLIDEAN, INNER, METRICS, of_unit_length, prepared
from doppio.core.branches.dense.pairs import close_pairs
from doppio.core.branches.dense.structure import Structure, build_structure, grown, open_structure
from doppio.core.branches.dense.structures.hnsw import Opened
from doppio.core.branches.dense.survey import joined, principal_axes, survey

NONE, ALIVE = np.empty(0, np.float32), np.empty(0, np.bool_)
SETTINGS = {
    "int8": {"kind": "int8", "over_fetch": 2},
    "binary": {"kind": "binary", "over_fetch": 20},
    "hnsw": {"kind": "hnsw", "m": 8, "ef_construction": 60, "ef_search": 60, "over_fetch": 2},
    "ivf": {"kind": "ivf", "cells": 20, "probes": 8, "over_fetch": 2},
    "pq": {"kind": "pq", "parts": 12, "over_fetch": 10},
}


def clouds(count, dimension=48, seed=0, unit=True):
    """Vectors around a few hundred centers, as texts about the same thing lie together."""
    random = np.random.default_rng(seed)
    centers = np.random.default_rng(99).normal(size=(max(count // 12, 4), dimension))
    rows = centers[random.integers(0, len(centers), count)] + 0.6 * random.normal(size=(count, dimension))
    rows = rows / np.linalg.norm(rows, axis=1, keepdims=True) if unit else rows
    return rows.astype(np.float32)


def vectors_of(rows, metric=COSINE):
    return prepared(rows, squares(rows), metric)


def index_of(rows, metric=COSINE, settings=None):
    vectors = vectors_of(rows, metric)
    structure = open_structure(settings["kind"], build_structure(vectors, settings)) if settings else None
    return DenseIndex([Segment(vectors, structure)], metric)


def recall(found, truth):
    return np.mean(
        [len(set(a.tolist()) & set(b.tolist())) / len(b) for (a, _), (b, _) in zip(found, truth, strict=True)]
    )


class Exact(unittest.TestCase):
    def test_rankings_are_those_of_plain_numpy_by_every_metric(self):
        rows, questions = clouds(700, unit=False), clouds(9, seed=1, unit=False)
        products = questions.astype(np.float64) @ rows.T.astype(np.float64)
        expected = {INNER: products, EUCLIDEAN: -cdist(questions, rows), COSINE: 1 - cdist(questions, rows, "cosine")}
        for metric in METRICS:
            own, asked = rows, questions
            if metric == COSINE:
                own, asked = (m / np.linalg.norm(m, axis=1, keepdims=True) for m in (rows, questions))
            found = index_of(own, metric).search_many(asked, 12)
            for (ids, scores), wanted in zip(found, expected[metric], strict=True):
                self.assertEqual(ids.tolist(), np.argsort(-wanted, kind="stable")[:12].tolist(), metric)
                np.testing.assert_allclose(scores, np.sort(wanted)[::-1][:12], atol=2e-5)

    def test_with_the_cosine_a_question_of_any_length_gives_cosines(self):
        rows = clouds(50)
        rows /= np.linalg.norm(rows, axis=1, keepdims=True)
        for length in (1e-3, 1.0, 10.0):
            _, scores = index_of(rows).search(rows[7] * np.float32(length), 3)
            np.testing.assert_allclose(scores[0], 1, atol=1e-5)
        zero = np.zeros(rows.shape[1], np.float32)
        self.assertEqual(index_of(rows).search(zero, 3)[1].tolist(), [0, 0, 0])
        # Those that have the length already are not touched, to the last bit.
        self.assertIs(of_unit_length(rows), rows)

    def test_full_depth_is_returned_however_far_away(self):
        rows = np.eye(3, dtype=np.float32)
        self.assertEqual(len(index_of(rows).search(-rows[0], 9)[0]), 3)

    def test_other_dimensions_are_refused(self):
        with self.assertRaisesRegex(ValueError, "4 dimensions, questions 3"):
            index_of(np.ones((2, 4), np.float32)).search(np.ones(3, np.float32), 1)

    def test_of_equal_vectors_the_first_are_returned_however_many_there_are(self):
        rows = np.repeat(clouds(3), [40, 200, 40], axis=0)
        shuffled = np.random.default_rng(0).permutation(len(rows))
        found, _ = index_of(rows[shuffled]).search(rows[100], 7)
        self.assertEqual(found.tolist(), np.flatnonzero((shuffled >= 40) & (shuffled < 240))[:7].tolist())

    @settings(max_examples=40)
    @given(st.integers(0, 10_000), st.sampled_from(METRICS), st.lists(st.integers(1, 119), max_size=3))
    def test_segments_with_deletions_rank_to_the_last_bit_as_one_index_does(self, seed, metric, cuts):
        random = np.random.default_rng(seed)
        rows, questions = clouds(120, seed=seed), clouds(3, seed=seed + 1)
        gone = random.random(120) < 0.3
        number = np.where(gone, -1, np.cumsum(~gone) - 1)
        edges = sorted({0, 120, *cuts})
        owner = np.searchsorted(edges, random.permutation(120), side="right")
        segments = [
            Segment(vectors_of(rows[owner == part], metric), None, number[owner == part])
            for part in np.unique(owner).tolist()
        ]
        index, fresh = DenseIndex(segments, metric), index_of(rows[~gone], metric)
        self.assertEqual(index.count, fresh.count)
        for one, other in zip(index.search_many(questions, 20), fresh.search_many(questions, 20), strict=True):
            np.testing.assert_array_equal(one[0], other[0])
            np.testing.assert_array_equal(one[1], other[1])
        np.testing.assert_array_equal(joined(index).rows, rows[~gone])
        np.testing.assert_array_equal(index.vectors([3, 0, 5]), rows[~gone][[3, 0, 5]])


class Structures(unittest.TestCase):
    def test_every_structure_finds_the_largest_products_of_vectors_of_unequal_length(self):
        rows, questions = clouds(3000), clouds(40, seed=5)
        lengths = np.exp(0.5 * np.random.default_rng(7).normal(size=(3000, 1))).astype(np.float32)
        index = index_of(rows * lengths, INNER)
        self.assertAlmostEqual(index.length_spread, float(np.log(np.linalg.norm(rows * lengths, axis=1)).std()), 5)
        self.assertEqual(
            (index_of(rows * lengths).length_spread, index_of(rows, INNER).length_spread < 1e-3), (0, True)
        )
        truth = index.search_many(questions, 10)
        for kind, chosen in {**SETTINGS, "ivf": {**SETTINGS["ivf"], "cells": 60, "probes": 20}}.items():
            found = index_of(rows * lengths, INNER, chosen).search_many(questions, 10, chosen)
            self.assertGreater(recall(found, truth), 0.9, kind)

    def test_every_structure_finds_most_of_what_exact_search_finds_and_scores_it_the_same(self):
        rows, questions = clouds(3000), clouds(40, seed=5)
        for metric in METRICS:
            truth = index_of(rows, metric).search_many(questions, 10)
            for kind, chosen in SETTINGS.items():
                found = index_of(rows, metric, chosen).search_many(questions, 10, chosen)
                self.assertGreater(recall(found, truth), 0.85 if kind == "ivf" else 0.9, (metric, kind))
                for (ids, scores), (exact_ids, exact_scores) in zip(found, truth, strict=True):
                    known = dict(zip(exact_ids.tolist(), exact_scores.tolist(), strict=True))
                    for chunk, score in zip(ids.tolist(), scores.tolist(), strict=True):
                        self.assertEqual(known.get(chunk, score), score)

    def test_the_distance_of_vectors_of_unlike_lengths_is_searched_too(self):
        rows, questions = clouds(2000, unit=False), clouds(30, seed=7, unit=False)
        rows *= np.random.default_rng(2).uniform(0.5, 2, (2000, 1)).astype(np.float32)
        truth = index_of(rows, EUCLIDEAN).search_many(questions, 10)
        for kind in ("int8", "hnsw", "ivf", "pq"):
            chosen = {**SETTINGS[kind], "probes": 20} if kind == "ivf" else SETTINGS[kind]
            found = index_of(rows, EUCLIDEAN, chosen).search_many(questions, 10, chosen)
            self.assertGreater(recall(found, truth), 0.85, kind)

    def test_more_work_finds_more(self):
        rows, questions = clouds(3000), clouds(60, seed=6)
        truth = index_of(rows).search_many(questions, 10)
        for kind, name, values in (
            ("hnsw", "ef_search", (1, 40, 400)),
            ("ivf", "probes", (1, 5, 20)),
            ("pq", "over_fetch", (1, 4, 40)),
        ):
            base = {**SETTINGS[kind], "over_fetch": 1}
            index = index_of(rows, COSINE, base)
            found = [recall(index.search_many(questions, 10, {**base, name: value}), truth) for value in values]
            self.assertLess(found[0], found[2], kind)
            self.assertLessEqual(found[0], found[1] + 0.02)
            self.assertGreater(found[2], 0.97, kind)

    def test_deleted_rows_are_never_returned(self):
        rows = clouds(900)
        dead = np.random.default_rng(1).random(900) < 0.7
        now = np.where(dead, -1, np.cumsum(~dead) - 1)
        for kind, chosen in SETTINGS.items():
            vectors = vectors_of(rows)
            structure = open_structure(kind, build_structure(vectors, chosen))
            found = DenseIndex([Segment(vectors, structure, now)]).search_many(rows[:20], 10, chosen)
            truth = index_of(rows[~dead]).search_many(rows[:20], 10)
            self.assertGreater(recall(found, truth), 0.75, kind)
            self.assertTrue(all(len(ids) == 10 for ids, _ in found) or kind == "ivf", kind)

    def test_nothing_and_next_to_nothing_can_be_indexed(self):
        for count in (0, 1, 3):
            for kind, chosen in SETTINGS.items():
                found = index_of(clouds(3)[:count], COSINE, chosen).search(clouds(3)[0], 5, chosen)[0]
                self.assertEqual(sorted(found.tolist()), list(range(count)), (kind, count))

    def test_bytes_are_off_by_half_a_step_at_most(self):
        rows = clouds(50, unit=False)
        codes = byte_codes(rows)
        error = np.abs(codes.codes * codes.scales[:, None] - rows)
        self.assertTrue((error <= codes.scales[:, None] / 2 + 1e-6).all())

    def test_bits_are_ordered_by_how_many_differ(self):
        rows = clouds(400, dimension=460)
        codes = bit_codes(rows)
        signs = rows > rows.mean(axis=0, dtype=np.float64).astype(np.float32)
        apart = (signs != signs[7]).sum(axis=1)
        found = bit_candidates(codes, rows[7], 25, ALIVE)
        self.assertEqual(sorted(found.tolist()), sorted(np.argsort(apart, kind="stable")[:25].tolist()))

    def test_centers_lie_in_the_middle_of_their_cells(self):
        rows = clouds(600)
        centers = kmeans(rows, 12, iterations=40)
        owner = nearest_center(rows, centers)
        self.assertEqual(owner.tolist(), cdist(rows, centers).argmin(axis=1).tolist())
        for cell in range(12):
            np.testing.assert_allclose(rows[owner == cell].mean(axis=0), centers[cell], atol=0.05)


class Growing(unittest.TestCase):
    def found(self, graph, rows, questions):
        return [graph_candidates(graph, question, 10, 60, ALIVE) for question in questions], index_of(
            rows
        ).search_many(questions, 10)

    def good(self, graph, rows, questions, least):
        found, truth = self.found(graph, rows, questions)
        self.assertGreater(
            np.mean([len(set(a.tolist()) & set(b.tolist())) / 10 for a, (b, _) in zip(found, truth, strict=True)]),
            least,
        )

    def test_the_same_graph_is_built_by_any_number_of_threads(self):
        rows = clouds(1500)
        one, other = (build_graph(rows, NONE, links=8, breadth=40, threads=threads) for threads in (1, 3))
        for name in ("near", "far", "far_begins", "levels", "entry"):
            np.testing.assert_array_equal(getattr(one, name), getattr(other, name), name)

    def test_rows_are_added_and_taken_away_without_building_anew(self):
        rows, questions = clouds(3000), clouds(50, seed=3)
        graph = extended(build_graph(rows[:2000], NONE, links=8, breadth=60), rows[2000:], NONE)
        self.good(graph, rows, questions, 0.93)
        dead = np.random.default_rng(0).random(3000) < 0.4
        self.good(without(graph, dead), rows[~dead], questions, 0.9)
        order = np.random.default_rng(1).permutation(3000)
        self.good(reordered(graph, order), rows[order], questions, 0.93)

    def test_no_row_is_its_own_neighbour_or_named_twice(self):
        graph = build_graph(np.repeat(clouds(60), 5, axis=0), NONE, links=6, breadth=30)
        for row, links in enumerate(graph.near):
            named = links[links >= 0].tolist()
            self.assertNotIn(row, named)
            self.assertEqual(len(named), len(set(named)))

    def test_a_structure_grows_into_a_merged_segment(self):
        rows, questions = clouds(2000), clouds(40, seed=4)
        now = np.full(1200, -1, np.int64)
        kept = np.sort(np.random.default_rng(5).choice(1200, 900, replace=False))
        now[kept] = np.sort(np.random.default_rng(6).choice(1500, 900, replace=False))
        others = np.setdiff1d(np.arange(1500), now[kept])
        merged = np.empty((1500, 48), np.float32)
        merged[now[kept]], merged[others] = rows[kept], rows[1200 : 1200 + 600]
        chosen = SETTINGS["hnsw"]
        before = open_structure("hnsw", build_structure(vectors_of(rows[:1200]), chosen))
        arrays = grown(before, now, vectors_of(merged))
        index = DenseIndex([Segment(vectors_of(merged), open_structure("hnsw", arrays))])
        self.assertGreater(
            recall(index.search_many(questions, 10, chosen), index_of(merged).search_many(questions, 10)), 0.9
        )
        self.assertIsNone(
            grown(
                open_structure("int8", build_structure(vectors_of(rows), SETTINGS["int8"])), now, vectors_of(merged)
            )
        )


class EqualRows(unittest.TestCase):
    """Five groups of 400 equal rows among 300 of their own: a graph of all of them loses 43 of the 300."""

    SETTING = {"kind": "hnsw", "m": 16, "ef_construction": 100, "ef_search": 100, "over_fetch": 2}

    def setUp(self):
        directions = of_unit_length(np.random.default_rng(0).normal(size=(305, 64)).astype(np.float32))
        self.own = directions[:300]
        rows = np.concatenate([np.repeat(directions[300:], 400, axis=0), self.own])
        self.rows = rows[np.random.default_rng(1).permutation(len(rows))]

    def found(self, arrays, rows, question, dead=ALIVE, count=10):
        structure = open_structure("hnsw", arrays)
        return structure.candidates(vectors_of(rows), question, count, self.SETTING, dead)

    def test_every_row_finds_itself_and_equal_ones_are_found_together(self):
        arrays = build_structure(vectors_of(self.rows), self.SETTING)
        for question in self.own:
            self.assertTrue((self.rows[self.found(arrays, self.rows, question)[0]] == question).all())
        largest = self.rows[self.found(arrays, self.rows, self.rows[0], count=1)[0]]
        equal = np.flatnonzero((self.rows == largest).all(axis=1))
        self.assertEqual(self.found(arrays, self.rows, largest, count=len(equal)).tolist(), equal.tolist())
        # Deleted ones are left out, one by one and all together.
        dead = np.zeros(len(self.rows), bool)
        dead[equal[:-1]] = True
        found = self.found(arrays, self.rows, largest, dead, 50)
        self.assertEqual((found[0], len(found), dead[found].any()), (equal[-1], 50, False))
        dead[equal] = True
        self.assertFalse(dead[self.found(arrays, self.rows, largest, dead, 50)].any())

    def test_what_comes_joins_those_that_it_equals(self):
        half, rng = len(self.rows) // 2, np.random.default_rng(2)
        before = open_structure("hnsw", build_structure(vectors_of(self.rows[:half]), self.SETTING))
        now = np.sort(rng.choice(len(self.rows), half, replace=False))
        # Some are gone; the others and those that come stand among one another.
        now[rng.random(half) < 0.2] = -1
        merged = np.empty_like(self.rows)
        places = np.setdiff1d(np.arange(len(merged)), now[now >= 0])
        merged[now[now >= 0]] = self.rows[:half][now >= 0]
        merged[places] = self.rows[half:][rng.integers(0, half, len(places))]
        arrays = grown(before, now, vectors_of(merged))
        self.assertEqual(len(arrays["levels"]), len(np.unique(merged, axis=0)))
        self.assertEqual(np.sort(arrays["members"]).tolist(), list(range(len(merged))))
        for row in range(0, len(merged), 7):
            found = self.found(arrays, merged, merged[row])[0]
            self.assertTrue((merged[found] == merged[row]).all())

    def test_a_graph_that_held_equal_rows_apart_is_built_anew(self):
        graph = build_graph(np.repeat(self.own[:50], 3, axis=0), NONE)
        older = Structure("hnsw", Opened(graph, Groups()), 0)
        self.assertIsNone(grown(older, np.arange(150), vectors_of(np.repeat(self.own[:52], 3, axis=0))))


class Looking(unittest.TestCase):
    def test_all_close_pairs_are_found_and_the_closest_are_listed(self):
        rows = clouds(900)
        cosines = (rows.astype(np.float64) @ rows.T.astype(np.float64))[np.triu_indices(900, 1)]
        pairs, found, count = close_pairs(rows, 0.8, 30)
        self.assertEqual(count, int((cosines >= 0.8).sum()))
        np.testing.assert_allclose(found, np.sort(cosines)[::-1][:30], atol=1e-5)
        for (one, other), cosine in zip(pairs, found, strict=True):
            self.assertLess(one, other)
            self.assertAlmostEqual(float(rows[one] @ rows[other]), float(cosine), places=5)

    def test_principal_axes_are_those_of_a_singular_value_decomposition(self):
        rows = clouds(500, unit=False)
        mean, axes, shares = principal_axes(rows)
        _, values, directions = np.linalg.svd(rows - rows.mean(axis=0), full_matrices=False)
        np.testing.assert_allclose(mean, rows.mean(axis=0), atol=1e-5)
        np.testing.assert_allclose(np.abs(axes @ directions[:2].T), np.eye(2), atol=1e-3)
        np.testing.assert_allclose(shares, (values**2 / (values**2).sum())[:2], atol=1e-5)

    def test_a_survey_measures_every_structure_against_exact_search(self):
        points = list(survey(vectors_of(clouds(600)), clouds(10, seed=8), COSINE))
        self.assertEqual(points[0].recall, 1.0)
        self.assertEqual({point.structure["kind"] for point in points}, {"exact", *SETTINGS})
        for point in points[1:]:
            self.assertTrue(0 <= point.recall <= 1 and point.per_second > 0 and point.bytes > 0)
