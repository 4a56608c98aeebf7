"""Cohen's kappa against scikit-learn, and its interval against drawing the items anew."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from sklearn.metrics import cohen_kappa_score

from doppio.core.measure.agreement import cohens_kappa

PAIRS = st.lists(st.tuples(st.integers(0, 3), st.integers(0, 3)), min_size=2, max_size=60)


class Kappa(unittest.TestCase):
    @settings(max_examples=150)
    @given(PAIRS)
    def test_it_is_that_of_scikit_learn(self, pairs):
        one, other = zip(*pairs, strict=True)
        found = cohens_kappa(one, other)
        self.assertEqual((found.items, found.same), (len(pairs), sum(a == b for a, b in pairs)))
        if len({*one, *other}) > 1:
            self.assertAlmostEqual(found.kappa, cohen_kappa_score(one, other))
            self.assertTrue(-1 <= found.low <= found.kappa <= found.high <= 1)
        else:
            self.assertIsNone(found.kappa)

    def test_the_interval_is_that_of_items_drawn_anew(self):
        random = np.random.default_rng(5)
        one = random.integers(0, 4, 400)
        other = np.where(random.random(400) < 0.6, one, random.integers(0, 4, 400))
        found = cohens_kappa(one.tolist(), other.tolist())
        drawn = [
            cohens_kappa(one[chosen].tolist(), other[chosen].tolist()).kappa
            for chosen in random.integers(0, 400, (400, 400))
        ]
        self.assertAlmostEqual((found.high - found.low) / 2 / 1.96, float(np.std(drawn)), delta=0.004)

    def test_judges_of_different_items_are_refused(self):
        with self.assertRaisesRegex(ValueError, "2 grades and 1"):
            cohens_kappa([1, 2], [1])
