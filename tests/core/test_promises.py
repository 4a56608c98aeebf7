"""Floors with a promise: kept in simulation, and equal to a bound of another library."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import binomtest

from doppio.core.measure.promises import promised


class Promises(unittest.TestCase):
    def test_it_is_kept_as_often_as_it_says(self):
        dice = np.random.default_rng(1)
        for most in (0.02, 0.05):
            kept = []
            for _ in range(1_500):
                # Uniform scores: the true share under a floor is the floor.
                found = promised(dice.random(200), most)
                kept.append(found.floor is None or found.floor <= most)
            self.assertGreaterEqual(np.mean(kept), 0.88)
            self.assertLess(np.mean(kept), 0.99)

    @given(st.integers(0, 10_000), st.sampled_from([0.02, 0.05, 0.1]), st.integers(1, 300))
    @settings(max_examples=60, deadline=None)
    def test_it_is_the_highest_whose_bound_holds(self, seed, most, count):
        scores = np.round(np.random.default_rng(seed).random(count), 2)
        found = promised(scores, most)

        def bound(lost):
            return binomtest(lost, count).proportion_ci(0.8, "exact").high

        if found.floor is None:
            self.assertGreater(bound(0), most)
            self.assertGreater(found.needs, count)
            return
        self.assertEqual(found.lost, int((scores < found.floor).sum()))
        self.assertLessEqual(bound(found.lost), most)
        higher = scores[scores > found.floor]
        if len(higher):
            self.assertGreater(bound(int((scores < higher.min()).sum())), most)

    def test_what_is_out_of_range_is_refused(self):
        for most, confidence in ((0, 0.9), (1, 0.9), (0.1, 1)):
            with self.assertRaises(ValueError):
                promised([0.5], most, confidence)
        self.assertIsNone(promised([], 0.05).floor)
        self.assertEqual(promised([], 0.05).needs, 45)


if __name__ == "__main__":
    unittest.main()
