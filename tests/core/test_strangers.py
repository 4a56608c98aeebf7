"""Live questions beside labelled ones: by a slow comparison, and what must come of alike and of strange ones."""

import unittest

import numpy as np

from doppio.core.measure.strangers import beside_labelled


def made(count, seed, centre=None, spread=1.0, width=32):
    random = np.random.default_rng(seed)
    vectors = random.normal(size=(count, width)) * spread + (0 if centre is None else centre)
    return vectors / np.linalg.norm(vectors, axis=1, keepdims=True)


class BesideLabelled(unittest.TestCase):
    def test_figures_are_those_of_a_slow_comparison(self):
        live, labelled = made(23, 1), made(41, 2)
        found = beside_labelled(live, labelled)
        near = [max(float(one @ other) for other in labelled) for one in live]
        own = [max(float(one @ other) for at, other in enumerate(labelled) if at != place)
               for place, one in enumerate(labelled)]  # fmt: skip
        np.testing.assert_allclose(found.nearest, near)
        self.assertAlmostEqual(found.live, float(np.median(near)))
        self.assertAlmostEqual(found.labelled, float(np.median(own)))
        # 5 of 100 among 41 lie two places from the lowest.
        self.assertAlmostEqual(found.threshold, sorted(own)[2])
        self.assertAlmostEqual(found.strangers, sum(value < found.threshold for value in near) / 23)

    def test_questions_of_the_same_kind_are_seldom_called_strange_and_others_always(self):
        centre = np.zeros(32)
        centre[0] = 4
        alarms = 0
        for seed in range(60):
            alike = beside_labelled(made(40, 2 * seed, centre), made(80, 2 * seed + 1, centre))
            alarms += alike.p < 0.05
        # One side of a test, and the nearest of 79 beside that of 80.
        self.assertLess(alarms, 12)
        elsewhere = np.zeros(32)
        elsewhere[1] = 4
        strange = beside_labelled(made(40, 7, elsewhere), made(80, 8, centre))
        self.assertLess(strange.p, 1e-6)
        self.assertGreater(strange.strangers, 0.7)

    def test_of_few_nothing_is_said(self):
        self.assertIsNone(beside_labelled(made(9, 1), made(50, 2)))
        self.assertIsNone(beside_labelled(made(50, 1), made(9, 2)))
