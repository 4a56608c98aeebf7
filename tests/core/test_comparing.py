"""Differences between recipes: against another library, against simulation, and laws."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from doppio.core.measure.comparing import compare, detectable, holm
from doppio.core.measure.significance import paired_randomisation


def against_nothing(apart, **more):
    """Comparisons whose differences are the rows given."""
    values = np.concatenate([np.zeros((1, apart.shape[1])), apart])
    return compare(values, [(0, row + 1) for row in range(len(apart))], **more)


def reciprocal_ranks(dice, chance, shape):
    return 1 / np.minimum(dice.geometric(chance, shape), 20)


class Differences(unittest.TestCase):
    def test_chance_and_interval_are_those_of_another_library(self):
        dice = np.random.default_rng(1)
        apart = np.stack([dice.normal(0.04, 0.3, 60), reciprocal_ranks(dice, 0.4, 60) - 0.55])
        for row, found in zip(apart, against_nothing(apart), strict=True):
            other = stats.permutation_test(
                (row,), np.mean, permutation_type="samples", n_resamples=20_000, rng=np.random.default_rng(2)
            )
            self.assertAlmostEqual(found.p, float(other.pvalue), delta=0.02)
            bounds = stats.bootstrap(
                (row,), np.mean, method="BCa", n_resamples=20_000, rng=np.random.default_rng(3)
            ).confidence_interval
            self.assertAlmostEqual(found.low, float(bounds.low), delta=0.01)
            self.assertAlmostEqual(found.high, float(bounds.high), delta=0.01)
            self.assertAlmostEqual(found.mean, float(row.mean()), places=12)

    def test_under_no_difference_one_in_twenty_is_held_to_be_one_and_intervals_hold_what_they_say(self):
        dice = np.random.default_rng(4)
        shape = (2_000, 120)
        for apart in (
            dice.normal(0, 0.3, shape),
            reciprocal_ranks(dice, 0.35, shape) - reciprocal_ranks(dice, 0.35, shape),
        ):
            found = against_nothing(apart)
            self.assertAlmostEqual(np.mean([one.p < 0.05 for one in found]), 0.05, delta=0.01)
            self.assertAlmostEqual(np.mean([one.low <= 0 <= one.high for one in found]), 0.95, delta=0.015)

    def test_the_smallest_difference_that_is_seen_is_found_four_times_of_five(self):
        dice = np.random.default_rng(5)
        count, spread = 100, 0.3
        sees = np.mean([detectable(row)[0] for row in dice.normal(0, spread, (200, count))])
        found = against_nothing(dice.normal(sees, spread, (1_000, count)))
        self.assertAlmostEqual(np.mean([one.p < 0.05 for one in found]), 0.8, delta=0.03)
        row = dice.normal(0, spread, count)
        seen, more = detectable(row)
        twice = np.resize(row, count + more)
        self.assertAlmostEqual(detectable(twice)[0], seen / 2, delta=0.01 * seen)

    def test_questions_of_one_group_are_one(self):
        dice = np.random.default_rng(6)
        once = dice.normal(0.05, 0.3, (1, 40))
        (alone,) = against_nothing(once)
        (grouped,) = against_nothing(np.repeat(once, 5, axis=1), groups=np.repeat(np.arange(40), 5))
        (blind,) = against_nothing(np.repeat(once, 5, axis=1))
        self.assertAlmostEqual(grouped.p, alone.p, delta=0.01)
        self.assertAlmostEqual(grouped.low, alone.low, delta=0.01)
        self.assertAlmostEqual(grouped.sees, alone.sees, places=9)
        self.assertLess(blind.p, alone.p)

    @given(st.integers(0, 10_000), st.integers(2, 30))
    @settings(max_examples=25, deadline=None)
    def test_turned_round_it_is_the_same_with_the_other_sign(self, seed, count):
        dice = np.random.default_rng(seed)
        values = dice.integers(0, 3, (2, count)) / 2.0
        values[dice.random((2, count)) < 0.1] = np.nan
        there, back = compare(values, [(0, 1), (1, 0)], rounds=400, resamples=300)
        self.assertEqual((there.mean, there.wins, there.losses), (-back.mean, back.losses, back.wins))
        self.assertEqual(there.wins + there.losses + there.ties, there.questions)
        self.assertEqual(there.questions, int((~np.isnan(values).any(axis=0)).sum()))
        self.assertEqual(there.p, back.p)
        self.assertLessEqual(there.low, there.high)

    def test_few_that_differ_are_counted_out_and_none_is_no_difference(self):
        values = np.zeros((3, 50))
        values[1, :4] = 1.0
        one, none = compare(values, [(0, 1), (0, 2)])
        self.assertEqual(one.p, paired_randomisation(values[1], values[0]))
        self.assertEqual(one.p, 2 / 2**4)
        self.assertGreater(one.high, one.low)
        self.assertEqual((none.p, none.low, none.high, none.ties, none.sees, none.more), (1.0, 0.0, 0.0, 50, 0.0, 0))
        self.assertEqual(compare(values, []), [])
        hollow = np.full((2, 5), np.nan)
        self.assertEqual(compare(hollow, [(0, 1)])[0].questions, 0)


class Families(unittest.TestCase):
    def test_correction_is_that_of_the_definition(self):
        self.assertEqual(holm([0.01, 0.04, 0.03, 0.5]), [0.04, 0.09, 0.09, 0.5])
        self.assertEqual(holm([]), [])

    def test_a_family_without_a_difference_is_held_to_have_one_in_twenty_times(self):
        dice = np.random.default_rng(8)
        families = dice.random((4_000, 6))
        wrong = np.mean([min(holm(row)) < 0.05 for row in families])
        self.assertAlmostEqual(wrong, 0.05, delta=0.012)


if __name__ == "__main__":
    unittest.main()
