"""Weights of branches fitted to labels: what labels speak for is found, and noise changes nothing."""

import unittest
from unittest import mock

import numpy as np

from doppio.core.chunking.table import ChunkTable
from doppio.core.fusion.kind import METHODS
from doppio.core.measure import fit_fusion as module
from doppio.core.measure.fit_fusion import Asked, fit_fusion
from doppio.core.measure.fitting import Listed, fit_among, fit_honestly
from doppio.core.measure.relevance import Relevance

CHUNKS = 60
FUSION = {"method": "scaled-scores", "weights": {"words": 1, "meaning": 1}, "depth": 50}


def table():
    numbers = np.arange(CHUNKS, dtype=np.int64)
    return ChunkTable.flat(numbers, numbers * 0, numbers * 0 + 10, numbers * 0, numbers * 0 - 1)


def questions(count, seed, skill=(0.0, 1.0)):
    """Questions with one right chunk each, which a branch lifts by its skill; the rest of its order is chance."""
    dice = np.random.default_rng(seed)
    found = []
    for _ in range(count):
        right = int(dice.integers(CHUNKS))
        rankings = []
        for lift in skill:
            scores = dice.random(CHUNKS)
            scores[right] += lift
            order = np.argsort(-scores)[:20]
            rankings.append((order.astype(np.int64), scores[order].astype(np.float32)))
        relevance = Relevance((np.array([right]),), (True,), np.ones(1), ((right, 0, 10),))
        found.append(Asked(rankings, relevance))
    return found


def fitted(asked, fusion=FUSION, **more):
    return fit_fusion(["words", "meaning"], asked, fusion, table(), ["mrr", "recall@5"], least=[0.0, None], **more)


class Fitting(unittest.TestCase):
    def setUp(self):
        patched = mock.patch.object(module, "RESAMPLES", 20)
        patched.start()
        self.addCleanup(patched.stop)

    def test_the_branch_that_finds_answers_gets_the_weight(self):
        found = fitted(questions(120, 1, (0.05, 0.6)))
        words, meaning = found.weights
        self.assertGreater(meaning.share, 0.7)
        self.assertTrue(words.low <= words.share <= words.high and meaning.low > 0.5)
        self.assertAlmostEqual(words.weight + meaning.weight, 2, places=1)
        mrr = found.figures[0]
        self.assertGreater(mrr.honest, mrr.today + 0.05)
        self.assertEqual(mrr.against.questions, 120)
        # Taken into a recipe as they are, the weights give the figure that is told.
        self.assertEqual(
            found.settings.keys() - {"method"}, {s.name for s in METHODS.get(found.settings["method"]).settings}
        )

    def test_labels_that_say_nothing_change_nothing(self):
        found = fitted(questions(120, 2, (0.3, 0.3)))
        self.assertAlmostEqual(found.weights[0].share, 0.5, delta=0.1)
        self.assertLess(abs(found.figures[0].honest - found.figures[0].today), 0.02)

    def test_too_few_labels_and_methods_that_are_no_sums_are_told(self):
        with self.assertRaisesRegex(ValueError, "20 are needed"):
            fitted(questions(8, 3, (1.0, 1.0)))
        with self.assertRaisesRegex(ValueError, "comb-mnz is no sum over branches; weights are"):
            fitted(questions(30, 3), {**FUSION, "method": "comb-mnz"})

    def test_wordings_of_one_question_are_never_split(self):
        dice = np.random.default_rng(4)
        listed = []
        for _ in range(12):
            right = np.zeros(6, bool)
            right[0] = True
            listed += [Listed(dice.random((6, 2)), right)] * 3
        groups = np.repeat(np.arange(12), 3)
        found = fit_among([listed], [np.ones(2)], groups=groups, least=0.0)
        for group in range(12):
            self.assertEqual(len(set(found.part[groups == group].tolist())), 1)
        self.assertTrue((found.weights >= 0).all())
        # Each alone is the same as no groups at all.
        alone = fit_honestly(listed, np.ones(2), groups=np.arange(36)[::-1])
        plain = fit_honestly(listed, np.ones(2))
        np.testing.assert_array_equal(alone.weights, plain.weights)
