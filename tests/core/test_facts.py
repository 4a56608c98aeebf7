"""Plain facts of a pair, and weights that are fitted to labels."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import check_grad, minimize

from doppio.core.errors import ModelFolderError
from doppio.core.measure import fitting
from doppio.core.measure.fit_to_labels import Gathered, fit_to_labels
from doppio.core.measure.fitting import Listed, fit_honestly, fit_weights, surprise
from doppio.core.models.fitted_folder import FittedFolder, Weight, named, open_fitted, write_fitted
from doppio.core.models.registry import Models
from doppio.core.reranking.facts.kind import FACTS, Shortlist
from doppio.core.reranking.windowed import Candidate
from tests.core.corpus import MODELS


def shortlist(question, texts, *, asked, weights, held, above=None, branches=None):
    return Shortlist(
        question,
        [Candidate(row, text) for row, text in enumerate(texts)],
        np.arange(len(texts), dtype=float),
        branches or {},
        np.array(asked),
        np.array(weights),
        [np.array(own) for own in held],
        [np.array(own) for own in (above or [[]] * len(texts))],
    )


class Facts(unittest.TestCase):
    def of(self, name, *given, **named):
        return FACTS.get(name).of(shortlist(*given, **named)).tolist()

    def test_each_says_what_its_title_says(self):
        words = {"asked": [5, 6, 7], "weights": [0.5, 0.3, 0.2], "held": [[5, 9], [6, 7, 5], []]}
        texts = ["ring 4", "E-17", ""]
        self.assertEqual(self.of("fused", "q", texts, **words), [0.0, 1.0, 2.0])
        np.testing.assert_allclose(self.of("lacking", "q", texts, **words), [0.5, 0.0, 1.0], atol=1e-9)
        np.testing.assert_allclose(self.of("heading", "q", texts, above=[[7], [1], [5, 6]], **words), [0.2, 0, 0.8])
        np.testing.assert_allclose(self.of("length", "q", texts, **words), np.log2([3, 4, 1]))
        branches = {"dense": np.array([0.9, np.nan, 0.4]), "sparse": np.array([np.nan, 3.0, 0.0])}
        np.testing.assert_array_equal(self.of("dense", "q", texts, branches=branches, **words), [0.9, np.nan, 0.4])
        np.testing.assert_allclose(self.of("sparse", "q", texts, branches=branches, **words), [0, np.log(4), 0])
        self.assertTrue(np.isnan(self.of("dense", "q", texts, **words)).all())

    def test_codes_match_letter_by_letter_and_whole(self):
        words = {"asked": [1], "weights": [1.0], "held": [[1]] * 4}
        texts = ["Code E-17 means ice.", "Code E-170 means rust.", "e-17", "E-17 and rope/grip"]
        self.assertEqual(self.of("codes", "What does E-17 mean?", texts, **words), [1.0, 0.0, 0.0, 1.0])
        self.assertEqual(self.of("codes", "E-17 rope/grip", texts, **words), [0.5, 0.0, 0.0, 1.0])
        self.assertEqual(self.of("codes", "When does it close?", texts, **words), [0.0] * 4)
        self.assertEqual(self.of("codes", "what is C++", ["C++", "C", "c++", ""], **words), [0.0] * 4)

    def test_a_pair_has_its_facts_whatever_stands_beside_it(self):
        given = {"asked": [5, 6], "weights": [0.6, 0.4], "held": [[5], [6, 6], [9]], "above": [[6], [], [5]]}
        texts = ["R2 rope", "grip", "R2"]
        for kind in FACTS:
            if kind.name == "fused":
                continue
            whole = kind.of(shortlist("R2 rope", texts, **given))
            for row in range(3):
                part = {**given, "held": [given["held"][row]], "above": [given["above"][row]]}
                np.testing.assert_array_equal(kind.of(shortlist("R2 rope", [texts[row]], **part)), whole[[row]])


def questions(seed, count=60, weights=(1.5, -1.0, 0.0), size=8):
    """Shortlists whose right passage was drawn by the weights."""
    dice = np.random.default_rng(seed)
    found = []
    for _ in range(count):
        facts = dice.normal(size=(size, len(weights)))
        chance = np.exp(facts @ np.array(weights))
        right = np.zeros(size, bool)
        right[dice.choice(size, p=chance / chance.sum())] = True
        found.append(Listed(facts, right))
    return found


class Fitting(unittest.TestCase):
    def test_many_labels_find_what_the_answers_were_drawn_by(self):
        found = fit_weights(questions(1, 4000), np.zeros(3), 1.0)
        np.testing.assert_allclose(found, [1.5, -1.0, 0.0], atol=0.12)

    @settings(max_examples=15, deadline=None)
    @given(st.integers(0, 1000), st.floats(0.1, 50))
    def test_it_is_the_least_of_the_slow_formula(self, seed, pull):
        listed, start = questions(seed, 12), np.array([0.3, 0.1, -0.2])

        def slow(weights):
            total = pull / 2 * np.sum((weights - start) ** 2)
            for one in listed:
                odds = np.exp(one.facts @ weights)
                total -= np.log(odds[one.right].sum() / odds.sum())
            return total

        found = fit_weights(listed, start, pull)
        other = minimize(slow, start, method="Nelder-Mead", options={"xatol": 1e-7, "fatol": 1e-10}).x
        np.testing.assert_allclose(found, other, atol=2e-3)
        self.assertLess(check_grad(slow, lambda w: np.zeros(3), found), 0.05)

    def test_few_labels_move_it_little_and_none_not_at_all(self):
        start = np.array([0.2, 0.2, 0.2])
        far = [np.linalg.norm(fit_weights(questions(2, 5), start, pull) - start) for pull in (1000.0, 30.0, 1.0)]
        self.assertEqual(far, sorted(far))
        self.assertLess(far[0], 0.02)
        np.testing.assert_array_equal(fit_weights([], start, 1.0), start)
        no_choice = [Listed(np.ones((2, 3)), np.array([True, True])), Listed(np.ones((2, 3)), np.zeros(2, bool))]
        np.testing.assert_array_equal(fit_weights(no_choice, start, 1.0), start)

    def test_held_out_scores_have_not_seen_their_question(self):
        listed = questions(3, 40)
        found = fit_honestly(listed, np.zeros(3))
        # Turning the labels of one question changes its own score by weights of others not at all.
        turned = Listed(listed[7].facts, np.roll(listed[7].right, 3))
        again = fit_honestly([*listed[:7], turned, *listed[8:]], np.zeros(3))
        np.testing.assert_array_equal(found.held_out[7], again.held_out[7])

    def test_labels_that_tell_nothing_leave_the_start(self):
        dice = np.random.default_rng(4)
        noise = [Listed(dice.normal(size=(8, 3)), np.arange(8) == dice.integers(8)) for _ in range(60)]
        start = np.array([1.0, 0.0, 0.0])
        fitted = fit_honestly(questions(5, 200), np.zeros(3))
        self.assertLess(fitted.pull, max(fitting.PULLS))
        told = sum(surprise([one], np.zeros(3)) for one in noise)
        found = fit_honestly(noise, np.zeros(3))
        self.assertLess(np.linalg.norm(found.weights), 0.3)
        self.assertLess(abs(surprise(noise, found.weights) - told), 3)
        self.assertEqual(fit_honestly([], start).weights.tolist(), start.tolist())

    def test_labels_move_weights_from_today_and_the_figures_are_of_unseen_questions(self):
        dice = np.random.default_rng(6)
        gathered = []
        for _ in range(150):
            values = dice.normal([3, -1, 0], [2, 1, 1], (10, 3))
            right = np.arange(10) == np.argmax(values[:, 0] / 2 + 3 * values[:, 1] + dice.normal(size=10))
            values[0, 1] = np.nan
            gathered.append(Gathered(values, right, values[:, 0]))
        found = fit_to_labels(["joint", "lacking", "noise"], gathered, {"joint": 1.0})
        self.assertEqual((found.start["lacking"], found.start["noise"]), (0.0, 0.0))
        self.assertGreater(found.start["joint"], 0)
        self.assertGreater(found.weights["lacking"]["weight"], 1)
        self.assertLess(abs(found.weights["noise"]["weight"]), 0.4)
        self.assertGreater(found.figures["fitted"]["mrr"], found.figures["today"]["mrr"] + 0.2)
        self.assertLess(found.figures["p"], 0.01)
        self.assertEqual(found.figures["answered"], 150)
        # What is said of pairs comes true as often.
        scores = np.concatenate([
            np.nan_to_num((one.values - [w["centre"] for w in found.weights.values()])
                          / [w["spread"] for w in found.weights.values()])
            @ np.array([w["weight"] for w in found.weights.values()])
            for one in gathered
        ])  # fmt: skip
        said = 1 / (1 + np.exp(-(found.calibration["slope"] * scores + found.calibration["offset"])))
        self.assertAlmostEqual(float(said.mean()), 0.1, delta=0.01)
        # Weights from elsewhere are begun from as they are, but for one factor, on their own scale.
        begin = {
            name: Weight(weight, 0.5, 2.0) for name, weight in (("joint", 1.0), ("lacking", 3.0), ("noise", 0.5))
        }
        other = fit_to_labels(["joint", "lacking", "noise"], gathered, {}, begin)
        self.assertAlmostEqual(other.start["lacking"], 3 * other.start["joint"], places=9)
        self.assertEqual({(w["centre"], w["spread"]) for w in other.weights.values()}, {(0.5, 2.0)})
        self.assertGreater(other.figures["fitted"]["mrr"], other.figures["today"]["mrr"] + 0.2)
        with self.assertRaisesRegex(ValueError, "only 5 labelled questions"):
            fit_to_labels(["joint", "lacking", "noise"], gathered[:5], {"joint": 1.0})


class Folders(unittest.TestCase):
    def body(self):
        weight = {"weight": 1.0, "centre": 0.5, "spread": 2.0}
        return {"title": "t", "scorers": ["late-interaction"], "facts": ["fused"], "window": 64, "windows": None,
                "weights": {"late-interaction": weight, "fused": weight},
                "calibration": {"slope": 1.0, "offset": -2.0}}  # fmt: skip

    def test_what_is_written_is_read_and_named_by_its_weights(self):
        body = self.body()
        name = named(body)
        self.assertEqual(named({**body, "title": "another"}), name)
        self.assertNotEqual(named({**body, "window": 32}), name)
        with tempfile.TemporaryDirectory() as place:
            folder = FittedFolder.from_json(name, body, "here")
            write_fitted(Path(place), folder)
            self.assertEqual(open_fitted(Path(place) / name), folder)
            self.assertEqual([one.name for one in Models(Path(place)).fitted()], [name])
            self.assertEqual((Models(Path(place)).scorers(), Models(Path(place)).listed()), ([], []))

    def test_what_ships_takes_the_place_of_what_shipped_before(self):
        answers = {"best": 0.5, "second": 0.0, "all": 0.1, "unfound": -1.0, "offset": 0.2}
        with tempfile.TemporaryDirectory() as place:
            for window in (64, 32):
                folder = FittedFolder.from_json(
                    "weighed", {**self.body(), "window": window, "answerable": answers}, "x"
                )
                write_fitted(Path(place), folder)
                found = open_fitted(Path(place) / "weighed")
                self.assertEqual((found.window, found.shipped), (window, True))
                self.assertEqual(found.answerable.to_json(), answers)
        for folder in Models(MODELS).fitted():
            if folder.shipped:
                self.assertIsNotNone(folder.answerable)

    def test_what_is_wrong_is_told(self):
        for change, said in (
            ({"weights": {}}, "weights: late-interaction, fused is missing"),
            ({"calibration": {"slope": 1}}, "offset"),
            (
                {"weights": {**self.body()["weights"], "fused": {"weight": 1, "centre": 0, "spread": 0}}},
                "out of range",
            ),
        ):
            with self.assertRaisesRegex(ModelFolderError, said):
                FittedFolder.from_json("f", {**self.body(), **change}, "here")


if __name__ == "__main__":
    unittest.main()
