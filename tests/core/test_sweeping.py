"""Sweeps: settings and their neighbours, an honest choice, and figures that are those of trials."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.branches.bm25 import SparseBranch
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DoppioError, RecipeError
from doppio.core.measure.gate import Figure
from doppio.core.measure.sweeper import Sweeper
from doppio.core.measure.sweeping import (
    Axis,
    axis,
    changed,
    choose,
    drawn,
    grid,
    halving,
    judged,
    neighbours,
    plateau,
    steps,
)
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe
from tests.core.test_gate import questions


class Settings(unittest.TestCase):
    def test_axes_are_read(self):
        self.assertEqual(axis("branches[0].k1=0.8,1.2,2").values, (0.8, 1.2, 2))
        self.assertEqual(axis("branches[0].k1 = 0.5..2/4"), Axis("branches[0].k1", (0.5, 1.0, 1.5, 2.0)))
        self.assertEqual(axis("select.k=1..9/5").values, (1, 3, 5, 7, 9))
        self.assertEqual(axis("select.k=1..64/7 log").values, (1, 2, 4, 8, 16, 32, 64))
        self.assertEqual(axis("rerank.window=null,64").values, (None, 64))
        self.assertEqual(axis("fusion.method=borda,comb-mnz").values, ("borda", "comb-mnz"))
        for wrong in ("k1", "k1=", "=1", "a..b=1", "a[x]=1", "k=2..1/3", "k=0..1/3 log", "k=1..2/1", "k=1..2..3/4"):
            with self.assertRaises(RecipeError, msg=wrong):
                axis(wrong)

    def test_a_path_is_walked_and_nothing_else_is_touched(self):
        self.assertEqual(steps("branches[12].analysis.stem"), ["branches", 12, "analysis", "stem"])
        body = recipe().body
        made = changed(body, {"branches[0].k1": 2.0, "fusion.weights.dense": 3, "select.k": 4})
        self.assertEqual((made["branches"][0]["k1"], made["fusion"]["weights"]["dense"]), (2.0, 3))
        self.assertEqual(made["select"]["k"], 4)
        self.assertEqual(body, recipe().body)
        for wrong in ("branches[7].k1", "name.k", "branches.k1"):
            with self.assertRaisesRegex(RecipeError, "leads nowhere"):
                changed(body, {wrong: 1})

    @given(st.lists(st.integers(1, 5), min_size=1, max_size=3), st.integers(0, 100))
    def test_a_draw_is_of_the_grid_and_holds_nothing_twice(self, sizes, seed):
        axes = [Axis(f"a{n}", tuple(range(size))) for n, size in enumerate(sizes)]
        every = grid(axes)
        self.assertEqual(len(every), int(np.prod(sizes)))
        found = drawn(axes, 7, seed)
        self.assertEqual(len(found), min(7, len(every)))
        self.assertTrue(all(row in every for row in found))
        self.assertEqual(len({tuple(row.items()) for row in found}), len(found))

    def test_neighbours_are_one_step_away(self):
        axes = [Axis("a", (1, 2, 4)), Axis("b", ("x", "y"))]
        rows = [*grid(axes), {"a": 3, "b": "x"}]
        near = [sorted(own) for own in neighbours(axes, rows)]
        self.assertEqual(near, [[0, 1, 2], [0, 1, 3], [0, 2, 3, 4], [1, 2, 3, 5], [2, 4, 5], [3, 4, 5], [6]])


class Choice(unittest.TestCase):
    def test_a_broad_height_is_taken_before_a_lone_peak(self):
        means = np.array([0.2, 0.9, 0.2, 0.6, 0.7, 0.69])
        near = neighbours([Axis("a", tuple(range(6)))], [{"a": n} for n in range(6)])
        np.testing.assert_allclose(plateau(means, near)[4], np.mean([0.6, 0.7, 0.69]))
        self.assertEqual(choose(np.repeat(means[:, None], 4, axis=1), near), 5)

    def test_of_settings_that_are_all_alike_the_flattering_figure_is_too_high_and_the_honest_one_is_not(self):
        dice = np.random.default_rng(1)
        flattering, honest, wrong = [], [], []
        for seed in range(150):
            figures = (dice.random((20, 60)) < 0.5).astype(float)
            found = judged(figures, [[n] for n in range(20)], np.arange(60), seed=seed)
            flattering.append(found.flattering)
            honest.append(found.honest)
            wrong.append(found.against.p < 0.05)
        self.assertGreater(np.mean(flattering), 0.58)
        self.assertAlmostEqual(np.mean(honest), 0.5, delta=0.015)
        self.assertLess(np.mean(wrong), 0.1)

    def test_what_is_truly_better_is_found_and_told(self):
        dice = np.random.default_rng(2)
        figures = np.clip(dice.normal(0.5, 0.2, (9, 120)), 0, 1)
        figures[6] += 0.15
        found = judged(figures, [[n] for n in range(9)], np.arange(120))
        self.assertEqual((found.best, set(found.picked)), (6, {6}))
        self.assertEqual(found.honest, found.flattering)
        self.assertLess(found.against.p, 0.001)

    def test_rewordings_are_never_split(self):
        dice = np.random.default_rng(3)
        figures = dice.random((5, 40))
        groups = np.repeat(np.arange(8), 5)
        one = judged(figures, [[n] for n in range(5)], groups)
        # What a group is judged by does not hang on its own figures.
        turned = figures.copy()
        turned[:, groups == 2] = turned[::-1, groups == 2]
        other = judged(turned, [[n] for n in range(5)], groups)
        self.assertEqual(len(one.picked), len(other.picked))
        lone = judged(figures[:, :5], [[n] for n in range(5)], np.zeros(5, np.int64))
        self.assertEqual(lone.picked, (0,))

    @given(st.integers(1, 200), st.integers(1, 300), st.integers(0, 50))
    @settings(deadline=None)
    def test_halving_asks_more_of_fewer_and_ends_with_all(self, rows, count, seed):
        before = np.zeros(0, np.int64)
        for asked in halving(rows, count, seed=seed):
            self.assertTrue(np.isin(before, asked).all())
            self.assertGreater(len(asked), len(before))
            before = asked
        self.assertEqual(before.tolist(), list(range(count)))


class Asking(unittest.TestCase):
    def test_figures_are_those_of_trials_and_what_is_shared_is_searched_once(self):
        corpus, asked = documents(), questions()
        names = [document.id for document in corpus]
        bodies = [changed(recipe(rerank=None).body, row) for row in
                  ({}, {"fusion.weights.dense": 5}, {"branches[0].k1": 0.1}, {"select.k": 1},
                   {"chunking.size": 12}, {"rerank": {"scorer": "late-interaction", "shortlist": 3}})]  # fmt: skip
        searched = []
        real = SparseBranch.search_many

        def counted(branch, texts, vectors, depth):
            searched.append(branch.settings["k1"])
            return real(branch, texts, vectors, depth)

        with tempfile.TemporaryDirectory() as place:
            builder = Builder(ArtifactStore(Path(place)), Models(MODELS))
            recipes = [recipe(**body) for body in bodies]
            sweeper = Sweeper(builder, corpus, asked)
            self.assertGreater(sweeper.lacking(recipes), 0)
            with mock.patch.object(SparseBranch, "search_many", counted):
                tables = {
                    figure: [sweeper.figures(one, figure) for one in recipes]
                    for figure in (Figure("mrr"), Figure("recall@1", "fused"), Figure("delivered"))
                }
            # Weights, what is selected and what reranks search no more; another k1 and other chunks do, once.
            self.assertEqual(len(searched), 3)
            self.assertEqual(sweeper.lacking(recipes), 0)
            key = corpus_fingerprint(corpus)
            for place_of, one in enumerate(recipes):
                table = builder.chunks(corpus, key, one)
                texts = CorpusTexts(corpus, table)
                trial = run_trial(builder.open(key, one, texts), names, asked)
                real_rows = [row for row in trial.rows if row.question.answerable]
                expected = {
                    Figure("mrr"): [row.metrics["context"]["mrr"] for row in real_rows],
                    Figure("recall@1", "fused"): [row.metrics["fused"]["recall@1"] for row in real_rows],
                    Figure("delivered"): [float(row.cause == "delivered") for row in real_rows],
                }
                for figure, values in expected.items():
                    np.testing.assert_allclose(tables[figure][place_of], values, err_msg=f"{figure} {place_of}")
            some = sweeper.figures(recipes[0], Figure("mrr"), np.array([1]))
            self.assertEqual(np.isnan(some).tolist(), [True, False])
            for wrong in (Figure("mrr", "reranked"), Figure("best"), Figure("recall"), Figure("mrr@5")):
                with self.assertRaises(DoppioError, msg=str(wrong)):
                    sweeper.figures(recipes[0], wrong)


if __name__ == "__main__":
    unittest.main()
