"""Reranking: blending, floors, calibration, depths; and whether a difference is chance."""

import itertools
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import permutation_test, zscore

from doppio.core.measure.depth import Candidates, depth_curve, depths_within
from doppio.core.measure.relevance import Relevance
from doppio.core.measure.significance import paired_randomisation
from doppio.core.models.joint import Scored
from doppio.core.models.kept_scores import KeptScores
from doppio.core.models.scorer_folder import Calibration
from doppio.core.reranking.combining import blended_scores, combined, pair_logits
from doppio.core.reranking.step import FirstStage, Reranker, Weighed
from doppio.core.reranking.windowed import Candidate, Reading
from doppio.core.text.units import words

numbers = st.lists(st.floats(-50, 50, width=32), min_size=2, max_size=20)


class Given:
    """Says of each text the number that it is."""

    name, digest, measure, blend = "given", "1", "as given", 0.0

    def __init__(self, calibration=None):
        self.calibration = calibration
        self.asked = 0

    def score(self, question, passages):
        self.asked += len(passages)
        return Scored(np.array([float(p.text) for p in passages], np.float32), (None,) * len(passages))


def scored(values):
    return Scored(np.array(values, np.float32), (None,) * len(values))


class Blending(unittest.TestCase):
    @given(numbers, st.floats(0, 3), st.integers(0, 100))
    def test_it_adds_the_standard_score_in_the_spread_of_the_joint_scores(self, raw, blend, seed):
        raw = np.array(raw, np.float32)
        first = np.random.default_rng(seed).normal(size=len(raw)).astype(np.float32)
        found = blended_scores(raw, first, blend)
        expected = raw + blend * raw.std(dtype=np.float64) * zscore(first.astype(np.float64))
        np.testing.assert_allclose(found, expected, atol=1e-3)
        np.testing.assert_allclose(blended_scores(raw, first * 7 + 3, blend), found, atol=1e-2)

    def test_nothing_is_added_without_spread(self):
        raw, level = np.array([1.0, 2.0], np.float32), np.ones(2, np.float32)
        np.testing.assert_array_equal(blended_scores(raw, level, 1.0), raw)
        np.testing.assert_array_equal(blended_scores(level, raw, 1.0), level)
        self.assertEqual(len(blended_scores(raw[:0], raw[:0], 1.0)), 0)

    def test_the_scorers_own_share_holds_where_none_is_given(self):
        scorer = Given()
        step, first = Reranker((Weighed(scorer),)), FirstStage(np.array([3.0, 1.0, 0.0], np.float32))
        candidates = [Candidate(10, "0"), Candidate(11, "1"), Candidate(12, "0.9")]
        self.assertEqual(step.rerank("", candidates, first).chunks.tolist(), [11, 12, 10])
        scorer.blend = 2.0
        self.assertEqual(step.rerank("", candidates, first).chunks.tolist(), [10, 11, 12])
        own = step.rerank("", candidates, first, blend=0.0)
        self.assertEqual(own.chunks.tolist(), [11, 12, 10])
        self.assertEqual(own.before.tolist(), [2, 3, 1])


def ordered(raw, calibration, floor=None, blend=0.0, first=None):
    step = Reranker((Weighed(Given(calibration)),))
    first = np.zeros(len(raw), np.float32) if first is None else first
    return step.order([scored(raw)], np.arange(len(raw)), first, blend=blend, floor=floor)


class Ordering(unittest.TestCase):
    @given(numbers, st.floats(0.01, 0.99))
    def test_a_floor_parts_probabilities_and_never_changes_the_order(self, raw, floor):
        plain, found = ordered(raw, None), ordered(raw, Calibration(0.5, 0.1), floor)
        np.testing.assert_array_equal(found.chunks, plain.chunks)
        np.testing.assert_array_equal(found.raw[0], plain.scores)
        np.testing.assert_array_equal(found.above_floor, found.probability >= floor)
        self.assertIsNone(plain.probability)

    def test_scores_that_the_calibration_cannot_tell_apart_keep_the_order_of_the_raw_ones(self):
        found = ordered([500.0, 900.0, 700.0], Calibration(1, 0))
        self.assertEqual(found.chunks.tolist(), [1, 2, 0])
        self.assertEqual(found.probability.tolist(), [1.0, 1.0, 1.0])

    @given(numbers, st.integers(0, 100), st.floats(0, 2))
    def test_a_pair_has_its_probability_whatever_stands_beside_it(self, raw, seed, blend):
        draw = np.random.default_rng(seed)
        first = draw.normal(size=len(raw)).astype(np.float32)
        whole = ordered(raw, Calibration(0.5, 0.1), blend=blend, first=first)
        said = dict(zip(whole.chunks.tolist(), whole.probability.tolist(), strict=True))
        for most in range(1, len(raw)):
            part = ordered(raw[:most], Calibration(0.5, 0.1), blend=blend, first=first[:most])
            for chunk, value in zip(part.chunks.tolist(), part.probability.tolist(), strict=True):
                self.assertEqual(value, said[chunk])


def nothing(count):
    """A first stage that tells nothing apart."""
    return FirstStage(np.zeros(count, np.float32))


class Several(unittest.TestCase):
    @given(st.integers(2, 12), st.integers(0, 1000), st.floats(0, 2))
    def test_scores_are_standardised_and_weighed(self, count, seed, blend):
        draw = np.random.default_rng(seed)
        one, other, first = draw.normal(size=(3, count)).astype(np.float32)
        found = combined([one, other], [3, 1], first, blend)
        wide = [zscore(own.astype(np.float64)) for own in (one, other, first)]
        np.testing.assert_allclose(found, 0.75 * wide[0] + 0.25 * wide[1] + blend * wide[2], atol=1e-4)
        # Neither the unit of a scorer nor where its scores begin has any say.
        np.testing.assert_allclose(combined([one * 50 - 3, other], [3, 1], first, blend), found, atol=1e-3)

    def test_one_that_tells_nothing_apart_changes_nothing(self):
        one, level, first = np.array([1.0, 3.0, 2.0]), np.ones(3), np.zeros(3)
        found = combined([one.astype(np.float32), level.astype(np.float32)], [1, 1], first.astype(np.float32), 0.5)
        self.assertEqual(np.argsort(-found).tolist(), [1, 2, 0])

    def test_probabilities_of_several_are_the_mean_of_their_odds(self):
        raw = [np.array([0.0, 2.0], np.float32), np.array([4.0, 0.0], np.float32), np.array([9.0, 9.0], np.float32)]
        found = pair_logits(raw, [Calibration(1, 0), Calibration(0.5, -1), None])
        np.testing.assert_allclose(found, [0.5, 0.5], atol=1e-6)
        self.assertIsNone(pair_logits(raw, [None, None, None]))

    def test_the_step_tells_what_each_gave(self):
        step = Reranker((Weighed(Given(), 1), Weighed(Given(Calibration(1, 0)), 3)))
        found = step.rerank("", [Candidate(7, "1"), Candidate(8, "2")], nothing(2))
        self.assertEqual([raw.tolist() for raw in found.raw], [[2.0, 1.0], [2.0, 1.0]])
        self.assertEqual(found.chunks.tolist(), [8, 7])
        self.assertTrue(step.calibrated)
        self.assertNotEqual(step.digest, Reranker((Weighed(Given(), 1), Weighed(Given(), 2))).digest)


class Words:
    """Says how often a text holds the question, and keeps what it read."""

    name, digest, measure, blend, calibration = "words", "1", "times", 0.0, None

    def __init__(self):
        self.read = []

    def score(self, question, passages):
        self.read += [passage.text for passage in passages]
        return Scored(np.array([p.text.count(question) for p in passages], np.float32), (None,) * len(passages))


class Windows(unittest.TestCase):
    text = "one two three four five six rope eight nine ten"

    def reading(self, size, most=None, chooser=None):
        return Reading(size, most, lambda texts: [words(text) for text in texts], chooser)

    def test_the_best_window_is_the_score_and_each_has_its_headings(self):
        scorer = Words()
        one = Candidate(3, f"Title: Part\n{self.text}", 12, 2, "Title", ("Title", "Part"))
        step = Reranker((Weighed(scorer),), self.reading(4))
        found = step.rerank("rope", [one, Candidate(4, "short")], nothing(2))
        self.assertEqual(found.chunks.tolist(), [3, 4])
        self.assertEqual(found.scores.tolist(), [1.0, 0.0])
        start, end = found.windows[0]
        self.assertEqual(self.text[start:end], "four five six rope")
        self.assertIsNone(found.windows[1])
        self.assertEqual(scorer.read, ["Title: Part\none two three four", "Title: Part\nfour five six rope",
                                       "Title: Part\nrope eight nine ten", "short"])  # fmt: skip

    def test_what_was_said_of_a_pair_is_kept_by_how_it_is_read(self):
        scorer, kept = Words(), {}
        some = [Candidate(3, self.text), Candidate(4, "rope and rope"), Candidate(5, "short")]
        for size in (4, 6):
            plain = Reranker((Weighed(scorer),), self.reading(size))
            step = plain.keeping(kept)
            for chosen in (some[:2], some, some[::-1]):
                whole, again = (one.rerank("rope", chosen, nothing(len(chosen))) for one in (plain, step))
                np.testing.assert_array_equal(whole.chunks, again.chunks)
                np.testing.assert_array_equal(whole.scores, again.scores)
                self.assertEqual(whole.windows, again.windows)
            scorer.read.clear()
            step.rerank("rope", some, nothing(3))
            self.assertEqual(scorer.read, [])

    def test_only_the_windows_that_are_liked_are_read_and_those_that_nothing_is_kept_of(self):
        def choose(question, chunks, before, bounds):
            self.assertEqual((question, list(chunks), list(before)), ("rope", [3], [2]))
            return [np.array([0.1, 0.9, -1.0], np.float32)]

        scorer = Words()
        one = Candidate(3, f"Title: Part\n{self.text}", 12, 2, "Title", ("Title", "Part"))
        Reranker((Weighed(scorer),), self.reading(4, 1, choose)).rerank("rope", [one], nothing(1))
        self.assertEqual([text.split("\n")[1].split()[0] for text in scorer.read], ["four", "rope"])

    def test_what_reads_kept_vectors_reads_passages_whole(self):
        scorer = Words()
        scorer.whole = True
        Reranker((Weighed(scorer),), self.reading(2)).rerank("rope", [Candidate(3, self.text)], nothing(1))
        self.assertEqual(scorer.read, [self.text])


def relevant(*spans):
    arrays = tuple(np.array(span, np.int64) for span in spans)
    return Relevance(arrays, (True,) * len(spans), np.ones(len(spans)), (None,) * len(spans))


class Depths(unittest.TestCase):
    def candidates(self, seed):
        draw = np.random.default_rng(seed)
        chunks = draw.permutation(100)[:12]
        texts = [str(value) for value in draw.normal(size=12).round(3)]
        candidates = [Candidate(int(chunk), text) for chunk, text in zip(chunks, texts, strict=True)]
        first = FirstStage(np.sort(draw.normal(size=12))[::-1].astype(np.float32))
        return Candidates(
            "q", relevant([int(draw.choice(chunks)), 500], [int(draw.choice(chunks))]), chunks, candidates, first
        )

    def test_recall_is_that_of_reranking_so_many_and_leaving_the_rest(self):
        asked = [self.candidates(seed) for seed in range(20)]
        points = depth_curve(Reranker((Weighed(Given()),)), asked, [1, 4, 12], (1, 3, 5))
        for point in points:
            for k, value in point.recall.items():
                met = []
                for one in asked:
                    head = sorted(range(point.depth), key=lambda row: -float(one.candidates[row].indexed))
                    ranking = [int(one.chunks[row]) for row in head] + one.chunks[point.depth :].tolist()
                    met.append(
                        np.mean([bool(set(span.tolist()) & set(ranking[:k])) for span in one.relevance.chunks])
                    )
                self.assertAlmostEqual(value, float(np.mean(met)), places=6)
            self.assertGreater(point.seconds, 0)

    def test_times_are_taken_past_what_is_kept(self):
        inner = Given()
        kept = Reranker((Weighed(KeptScores(inner)),))
        asked = [self.candidates(seed) for seed in range(3)]
        depth_curve(kept, asked, [5, 12], (1,))
        once = inner.asked
        depth_curve(kept, asked, [5, 12], (1,))
        self.assertEqual(inner.asked - once, 3 * (5 + 12))

    def test_depths_end_with_what_fusion_hands_on(self):
        self.assertEqual(depths_within(50), [1, 3, 5, 10, 15, 20, 30, 50])
        self.assertEqual(depths_within(12), [1, 3, 5, 10, 12])
        self.assertEqual(depths_within(1), [1])
        self.assertEqual(depth_curve(Reranker((Weighed(Given()),)), [], [1, 2], (1,))[0].recall, {1: 0.0})


class Chance(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 3)), min_size=1, max_size=9))
    def test_few_pairs_are_counted_out(self, pairs):
        a, b = (np.array(column, float) for column in zip(*pairs, strict=True))
        apart = a - b
        sums = [
            abs(sum(s * d for s, d in zip(signs, apart, strict=True)))
            for signs in itertools.product((1, -1), repeat=len(apart))
        ]
        expected = np.mean([value >= abs(apart.sum()) - 1e-9 for value in sums])
        self.assertAlmostEqual(paired_randomisation(a, b), float(expected), places=9)
        self.assertEqual(paired_randomisation(a, b), paired_randomisation(b, a))

    def test_many_pairs_agree_with_another_library(self):
        draw = np.random.default_rng(3)
        for shift in (0.0, 0.05, 0.12):
            a = draw.random(300)
            b = np.clip(a + draw.normal(shift, 0.5, 300), 0, 1)
            other = permutation_test((a, b), lambda x, y, axis: np.mean(x - y, axis=axis), permutation_type="samples",
                                     vectorized=True, n_resamples=20_000, random_state=1).pvalue  # fmt: skip
            self.assertAlmostEqual(paired_randomisation(a, b), float(other), delta=0.02)

    def test_no_difference_and_uneven_lengths(self):
        self.assertEqual(paired_randomisation([1, 0, 1], [1, 0, 1]), 1.0)
        with self.assertRaisesRegex(ValueError, "one value a question"):
            paired_randomisation([1.0], [1.0, 2.0])
