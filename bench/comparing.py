"""Comparing many recipes: a sweep beside trials of their own, and all pairs beside one test after another.

    ./doppio bench comparing

Fifty recipes over the demo's documents, which share their indexes and do not rerank; a thousand questions, the demo's
over and over. What is claimed is a ratio of two measurements of one run; seconds are told beside.
"""

import json
import time
from pathlib import Path
from typing import Any

import numpy as np
from bench.timing import Row
from rich.console import Console
from rich.table import Table
from scipy import stats

from doppio.command.paths import DEMO, MODELS, VAR
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.measure.comparing import ROUNDS, compare
from doppio.core.measure.gate import figure
from doppio.core.measure.sweeper import Sweeper
from doppio.core.measure.sweeping import axis, changed, grid
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check, read_recipe
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint

RECIPE = DEMO / "recipes" / "two-branch-2.json"
AXES = ("fusion.weights.dense=0.25,0.5,1,2,4", "branches[0].k1=0.6..2.4/5", "select.k=3,5")
QUESTIONS = 1_000
AIMS = {"sweep": 120.0, "pairs": 5.0}


def main(json_file: Path | None = None) -> None:
    """Measure both and print ratios."""
    console = Console()
    table = Table("what", "beside", "claim", "ratio", "holds")
    figures: dict[str, Any] = {}
    for name, (row, seconds) in {"sweep": _sweep(), "pairs": _pairs()}.items():
        figures[name] = {"seconds": seconds, "ratio": row.ratio}
        table.add_row(row.what, row.beside, row.wanted, f"{row.ratio:.1f}", "yes" if row.holds else "NO")
    console.print(table)
    for name, found in figures.items():
        said = "within" if found["seconds"] <= AIMS[name] else "OVER"
        console.print(f"{name}: {found['seconds']:.1f} s; {said} the aim of {AIMS[name]:.0f} s")
    if json_file:
        json_file.write_text(json.dumps(figures, indent=1) + "\n")


def _sweep() -> tuple[Row, float]:
    """Fifty recipes over a thousand questions, beside the same number of trials as one takes."""
    corpus = read_documents(DEMO / "documents")
    own = [q for q in read_questions(DEMO / "questions.jsonl", {d.id: d for d in corpus}) if q.answerable]
    questions = [own[place % len(own)] for place in range(QUESTIONS)]
    base = changed(read_recipe(RECIPE).body, {"rerank": None})
    recipes = [check(changed(base, row)) for row in grid([axis(text) for text in AXES])]
    builder = Builder(ArtifactStore(VAR / "cache"), Models(MODELS))
    key = corpus_fingerprint(corpus)
    texts = CorpusTexts(corpus, builder.chunks(corpus, key, recipes[0]), recipes[0].chunking["context"])
    builder.indexes(key, recipes[0], texts)
    pipeline = builder.open(key, recipes[0], texts)
    run_trial(pipeline, [d.id for d in corpus], questions[:50])
    begun = time.perf_counter()
    run_trial(pipeline, [d.id for d in corpus], questions)
    alone = time.perf_counter() - begun
    sweeper, wanted = Sweeper(builder, corpus, questions), figure("recall@5")
    begun = time.perf_counter()
    for recipe in recipes:
        sweeper.figures(recipe, wanted)
    seconds = time.perf_counter() - begun
    ratio = alone * len(recipes) / seconds
    return Row(
        f"{len(recipes)} recipes, {QUESTIONS} questions", "as many trials", "at least 3", ratio, 3, True
    ), seconds


def _pairs() -> tuple[Row, float]:
    """All pairs of fifty recipes over a thousand questions, beside a test of SciPy for each."""
    dice = np.random.default_rng(1)
    values = 1 / np.minimum(dice.geometric(0.4, (50, QUESTIONS)), 20)
    pairs = [(a, b) for a in range(50) for b in range(a)]
    compare(values[:2], [(0, 1)])
    begun = time.perf_counter()
    compare(values, pairs)
    seconds = time.perf_counter() - begun
    begun = time.perf_counter()
    apart = values[1] - values[0]
    stats.permutation_test(
        (apart,), np.mean, permutation_type="samples", n_resamples=ROUNDS, vectorized=True, batch=500
    )
    one = time.perf_counter() - begun
    ratio = one * len(pairs) / seconds
    return Row(
        f"{len(pairs):,} pairs, {QUESTIONS} questions", "SciPy, a test a pair", "at least 20", ratio, 20, True
    ), seconds
