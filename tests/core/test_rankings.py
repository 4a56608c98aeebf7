import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.fusion.reciprocal_rank import reciprocal_rank_fusion
from doppio.core.fusion.scaled_scores import scaled_score_fusion
from doppio.core.ranking import best_of
from doppio.core.select.packing import pack

RANKINGS = st.lists(st.lists(st.integers(0, 30), unique=True, max_size=12), min_size=1, max_size=4)


def ids(values):
    return np.array(values, np.int64)


class Best(unittest.TestCase):
    @settings(max_examples=200)
    @given(st.lists(st.integers(-3, 3), max_size=40), st.integers(0, 50), st.integers(0, 40))
    def test_the_best_of_several_lists_are_those_of_a_full_sort_with_ties_by_id(self, values, k, cut):
        expected = sorted(range(len(values)), key=lambda n: (-values[n], n))[:k]
        numbers, scores = np.arange(len(values)), np.array(values, np.float64)
        found, kept = best_of([(numbers[cut:], scores[cut:]), (numbers[:cut], scores[:cut])], k)
        self.assertEqual(found.tolist(), expected)
        self.assertEqual(kept.tolist(), [values[n] for n in expected])


class Fusion(unittest.TestCase):
    def test_reciprocal_ranks_by_hand(self):
        fused = reciprocal_rank_fusion([ids([7, 3]), ids([3])], k=60, weights=[1, 2])
        self.assertEqual(fused.chunks.tolist(), [3, 7])
        np.testing.assert_allclose(fused.scores, [1 / 62 + 2 / 61, 1 / 61], rtol=1e-6)
        self.assertEqual(fused.ranks.tolist(), [[2, 1], [1, 0]])

    def test_scaled_scores_by_hand(self):
        first = ids([1, 2, 3]), np.array([10, 6, 2], np.float32)
        second = ids([3, 4]), np.array([0.9, 0.4], np.float32)
        fused = scaled_score_fusion([first, second], weights=[1, 3])
        got = dict(zip(fused.chunks.tolist(), fused.scores.tolist(), strict=True))
        self.assertEqual(fused.chunks.tolist()[0], 3)
        for chunk, expected in {1: 0.25, 2: 0.125, 3: 0.75, 4: 0.0}.items():
            self.assertAlmostEqual(got[chunk], expected, places=6)

    @settings(max_examples=150)
    @given(st.lists(st.lists(st.integers(0, 30), unique=True, max_size=12), min_size=2, max_size=4))
    def test_a_branch_without_weight_is_as_if_it_were_not_there(self, rankings):
        first, others = rankings[0], rankings[1:]
        scored = [(ids(r), -np.arange(len(r), dtype=np.float32)) for r in rankings]
        weights = [1.0] + [0.0] * len(others)
        for fused, alone in (
            (
                reciprocal_rank_fusion([ids(r) for r in rankings], weights=weights),
                reciprocal_rank_fusion([ids(first)]),
            ),
            (scaled_score_fusion(scored, weights=weights), scaled_score_fusion(scored[:1])),
        ):
            self.assertEqual(fused.chunks.tolist(), first)
            np.testing.assert_array_equal(fused.scores, alone.scores)
            self.assertFalse(fused.shares[:, 1:].any())
            # Where a branch without weight has a chunk is told all the same.
            for column, other in enumerate(others, 1):
                ranks = [other.index(chunk) + 1 if chunk in other else 0 for chunk in first]
                self.assertEqual(fused.ranks[:, column].tolist(), ranks)

    def test_hits_that_scale_to_nothing_stay_in_the_order_of_their_branch(self):
        scores = np.array([3, 1, 1], np.float32)
        fused = scaled_score_fusion([(ids([9, 8, 2]), scores), (ids([9]), scores[:1])], weights=[1, 1])
        self.assertEqual(fused.chunks.tolist(), [9, 8, 2])
        self.assertEqual(fused.scores.tolist(), [1, 0, 0])

    def test_a_list_of_equal_scores_counts_fully(self):
        fused = scaled_score_fusion([(ids([5, 6]), np.array([2, 2], np.float32))])
        self.assertEqual(fused.scores.tolist(), [1.0, 1.0])

    @settings(max_examples=150)
    @given(RANKINGS, st.randoms())
    def test_equal_weights_do_not_care_for_the_order_of_branches(self, rankings, random):
        turned = list(rankings)
        random.shuffle(turned)
        one = reciprocal_rank_fusion([ids(r) for r in rankings])
        other = reciprocal_rank_fusion([ids(r) for r in turned])
        self.assertEqual(one.chunks.tolist(), other.chunks.tolist())

    @settings(max_examples=150)
    @given(RANKINGS)
    def test_fused_holds_each_chunk_once_and_shares_add_up(self, rankings):
        for fused in (
            reciprocal_rank_fusion([ids(r) for r in rankings]),
            scaled_score_fusion([(ids(r), -np.arange(len(r), dtype=np.float32)) for r in rankings]),
        ):
            self.assertEqual(sorted(fused.chunks.tolist()), sorted({n for r in rankings for n in r}))
            np.testing.assert_allclose(fused.shares.sum(axis=1), fused.scores, rtol=1e-5, atol=1e-7)
            self.assertTrue((np.diff(fused.scores) <= 1e-7).all())

    @settings(max_examples=80)
    @given(st.lists(st.integers(0, 30), unique=True, min_size=1, max_size=12))
    def test_one_branch_keeps_its_order(self, ranking):
        self.assertEqual(reciprocal_rank_fusion([ids(ranking)]).chunks.tolist(), ranking)

    def test_bad_settings_are_refused(self):
        for call in (
            lambda: reciprocal_rank_fusion([ids([1])], k=0),
            lambda: reciprocal_rank_fusion([ids([1])], weights=[-1]),
            lambda: reciprocal_rank_fusion([ids([1])], weights=[1, 1]),
            lambda: scaled_score_fusion([(ids([1]), np.ones(1, np.float32))], weights=[0]),
        ):
            with self.assertRaises(ValueError):
                call()


class Packing(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.lists(st.integers(1, 50), max_size=12), st.integers(1, 120))
    def test_packed_passages_fit_and_nothing_that_fits_first_is_left_out(self, tokens, budget):
        taken = pack(np.array(tokens, np.int64), budget)
        self.assertLessEqual(sum(t for t, on in zip(tokens, taken, strict=True) if on), budget)
        used = 0
        for needed, on in zip(tokens, taken, strict=True):
            self.assertEqual(bool(on), used + needed <= budget)
            used += needed if on else 0
