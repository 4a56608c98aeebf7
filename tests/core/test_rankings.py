import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.fusion.kind import METHODS, fused_by
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


def slowly(method, lists, weights):
    """What a chunk gets from each method, by the textbook; lists are dictionaries from chunks to scores."""
    total = sum(weights)
    used = [(one, weight) for one, weight in zip(lists, weights, strict=True) if weight]
    every = {chunk for one, _ in used for chunk in one}

    def scaled(one, chunk):
        low, high = min(one.values()), max(one.values())
        return 0.0 if chunk not in one else 1.0 if high == low else (one[chunk] - low) / (high - low)

    def points(one, chunk):
        order = list(one)
        left = [len(every) - place for place in range(len(order), len(every))]
        return len(every) - order.index(chunk) if chunk in one else sum(left) / len(left)

    def value(chunk):
        if method == "comb-mnz":
            return sum(w * scaled(one, chunk) for one, w in used) * sum(chunk in one for one, _ in used)
        if method == "borda":
            return sum(w * points(one, chunk) for one, w in used)
        if method == "geometric-mean":
            return np.prod([(scaled(one, chunk) + 0.05) ** (w / total) for one, w in used])
        if method == "harmonic-mean":
            return 1 / sum(w / total / (scaled(one, chunk) + 0.05) for one, w in used)
        if method == "scores-and-ranks":
            by_rank = [61 / (60 + list(one).index(chunk) + 1) if chunk in one else 0 for one, _ in used]
            return sum(w * (scaled(one, chunk) + rank) / 2 for (one, w), rank in zip(used, by_rank, strict=True))
        if method == "unit-length":
            return sum(w * one.get(chunk, 0) / np.linalg.norm(list(one.values())) for one, w in used)
        if method == "scaled-from-least":
            return sum(w * one.get(chunk, 0) / max(one.values()) for one, w in used)
        if method == "standard-scores":
            return sum(
                w * (one.get(chunk, min(one.values())) - np.mean(list(one.values()))) / np.std(list(one.values()))
                for one, w in used
            )
        spread = [(np.mean(list(one.values())), np.std(list(one.values()))) for one, _ in used]
        return sum(
            w * np.clip((one[chunk] - mean + 3 * dev) / (6 * dev), 0, 1)
            for (one, w), (mean, dev) in zip(used, spread, strict=True)
            if chunk in one
        )

    return {chunk: float(value(chunk)) for chunk in every}


OTHERS = [kind.name for kind in METHODS if not getattr(kind, "usual", False)]


class ManyMethods(unittest.TestCase):
    def fused(self, name, lists, weights, least=None):
        kind = METHODS.get(name)
        given = {one.name: one.default for one in kind.settings}
        rankings = [(ids(list(one)), np.array(list(one.values()), np.float32)) for one in lists]
        return fused_by(kind, rankings, weights, given, least or [0.0] * len(lists))

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from(OTHERS))
    def test_the_order_is_that_of_the_textbook(self, seed, name):
        dice = np.random.default_rng(seed)
        lists = [
            {int(chunk): float(score) for chunk, score in zip(
                dice.permutation(25)[: dice.integers(3, 12)], np.sort(dice.random(12))[::-1] + 0.1, strict=False)}
            for _ in range(3)
        ]  # fmt: skip
        weights = [1.0, float(dice.integers(0, 2)), 2.0]
        fused, expected = self.fused(name, lists, weights), slowly(name, lists, weights)
        self.assertEqual(set(fused.chunks.tolist()), set(expected))
        values = np.array([expected[chunk] for chunk in fused.chunks.tolist()])
        self.assertTrue((np.diff(values) <= 1e-5 * max(1, np.abs(values).max())).all(), (name, values))
        np.testing.assert_allclose(fused.shares.sum(axis=1), fused.scores, rtol=1e-4, atol=1e-6)
        self.assertTrue((fused.shares >= 0).all())
        # A branch without weight is as if it were not there, and one alone keeps its order.
        without = self.fused(name, lists[:1] + lists[2:], [1.0, 2.0])
        alone = self.fused(name, lists[1:], [0.0, 1.0])
        if not weights[1]:
            np.testing.assert_array_equal(without.chunks, fused.chunks)
            np.testing.assert_allclose(without.scores, fused.scores, rtol=1e-6)
        self.assertEqual(alone.chunks.tolist(), list(lists[2]))

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from([one.name for one in METHODS if getattr(one, "additive", False)]))
    def test_what_is_additive_is_the_sum_of_shares_in_proportion_to_the_weights(self, seed, name):
        dice = np.random.default_rng(seed)
        lists = [
            dict(zip(dice.permutation(20)[:9].tolist(), np.sort(dice.random(9))[::-1].tolist(), strict=True))
            for _ in range(3)
        ]
        weights = dice.random(3) + 0.1
        even, fused = self.fused(name, lists, [1.0] * 3), self.fused(name, lists, weights.tolist())
        summed = dict(zip(even.chunks.tolist(), (even.shares @ weights).tolist(), strict=True))
        expected = np.array([summed[chunk] for chunk in fused.chunks.tolist()])
        np.testing.assert_allclose(expected / expected.sum(), fused.scores / fused.scores.sum(), rtol=1e-4, atol=1e-6)

    def test_only_what_says_so_hangs_on_the_depth_of_a_branch(self):
        dice = np.random.default_rng(3)
        deep = [
            {
                int(c): float(s)
                for c, s in zip(dice.permutation(60), np.sort(dice.random(40))[::-1] + 0.2, strict=False)
            }
            for _ in range(2)
        ]
        short = [dict(list(one.items())[:10]) for one in deep]
        for kind in METHODS:
            whole, part = (
                dict(zip(found.chunks.tolist(), found.shares.tolist(), strict=True))
                for found in (self.fused(kind.name, deep, [1, 1]), self.fused(kind.name, short, [1, 1]))
            )
            same = all(
                np.allclose(share, whole[chunk][branch], rtol=1e-5)
                for chunk, shares in part.items()
                for branch, share in enumerate(shares)
                if chunk in short[branch]
            )
            self.assertEqual(same, kind.help.startswith("Does not hang"), kind.name)

    def test_empty_and_equal_lists_are_borne_and_what_is_wrong_is_refused(self):
        for name in OTHERS:
            self.assertEqual(self.fused(name, [{}, {}], [1, 1]).chunks.tolist(), [])
            # Places are all that Borda looks at.
            alike = self.fused(name, [{4: 1.0, 2: 1.0}, {}], [1, 1]).chunks.tolist()
            self.assertEqual(alike, [4, 2] if name in ("borda", "scores-and-ranks") else [2, 4])
            with self.assertRaises(ValueError):
                self.fused(name, [{4: 1.0}], [-1])
        # Distances and products have no least: the last of the list stands for it.
        fused = self.fused("scaled-from-least", [{1: -2.0, 2: -4.0, 3: -6.0}], [1], [None])
        self.assertEqual(fused.scores.tolist(), [1.0, 0.5, 0.0])


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
