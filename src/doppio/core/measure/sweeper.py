"""Asking the same questions under many settings: what they share is built, opened and searched once."""

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass, replace

import numpy as np
from numpy.typing import NDArray

from doppio.core.build.builder import Builder
from doppio.core.build.keys import Keys
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.pouring import Ranking
from doppio.core.measure.comparing import Floats
from doppio.core.measure.gate import Figure
from doppio.core.measure.ledger import DELIVERED, cause
from doppio.core.measure.measuring import handed_at, measured_by
from doppio.core.measure.questions import Question
from doppio.core.measure.relevance import COVER, Relevance, document_positions, relevance
from doppio.core.measure.sweep_plan import GRID, HALVING, Plan
from doppio.core.measure.sweeping import KEPT, halving, neighbours
from doppio.core.progress import Progress
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.step import PairsKept
from doppio.core.store.crew import Place
from doppio.core.text.document import Document, corpus_fingerprint


@dataclass(frozen=True)
class Asking:
    """What a sweep asks, and of what; `key` names it."""

    key: str
    corpus: Sequence[Document]
    questions: Sequence[Question]
    cover: float


def figures_there(place: Place, asking: Asking, recipe: Recipe, wanted: Figure, rows: NDArray[np.int64]) -> Floats:
    """`Sweeper.figures` in another process; what it searched and scored stays at hand there."""
    sweeper = place.once(
        ("sweeper", asking.key),
        lambda: Sweeper(Builder(place.store, place.models), asking.corpus, asking.questions, cover=asking.cover),
    )
    return sweeper.figures(recipe, wanted, rows)


class Sweeper:
    """Asks the answerable questions of a set under one recipe after another.

    Notes
    -----
    Chunkings and indexes are built where they are lacking, and found again by what they were made from. What a branch
    found is kept by its settings, so recipes that differ in fusion, reranking or context search once for all of them;
    what scorers said of a pair is kept too.
    """

    def __init__(
        self, builder: Builder, corpus: Sequence[Document], questions: Sequence[Question], *, cover: float = COVER
    ) -> None:
        self.builder, self.corpus, self.cover = builder, list(corpus), cover
        self.questions = [question for question in questions if question.answerable]
        self._key = corpus_fingerprint(self.corpus)
        self._positions = document_positions([document.id for document in self.corpus])
        self._texts: dict[tuple[str, str], CorpusTexts] = {}
        self._relevance: dict[str, list[Relevance]] = {}
        self._held: dict[str, dict[str, list[Ranking]]] = {}
        self._pairs: dict[str, PairsKept] = {}

    def keys(self, recipe: Recipe) -> Keys:
        """What a recipe needs built."""
        return self.builder.keys(self._key, recipe)

    def lacking(self, recipes: Sequence[Recipe]) -> int:
        """How many different indexes have to be built for some recipes."""
        return len(self.builder.lacking(self._key, recipes))

    def figures(self, recipe: Recipe, wanted: Figure, rows: NDArray[np.int64] | None = None) -> Floats:
        """A figure of each answerable question: (q,) float64; NaN for those that are not among `rows`.

        Raises
        ------
        DoppioError
            If the recipe has no such stage, or there is no such metric.
        """
        table, texts = self._built(recipe)
        keys = self.keys(recipe)
        pipeline = self.builder.open(self._key, recipe, texts)
        if pipeline.reranker is not None:
            kept = self._pairs.setdefault(keys.chunks, {})
            pipeline = replace(pipeline, reranker=pipeline.reranker.keeping(kept))
        if wanted.stage and wanted.stage not in recipe.stages:
            raise DoppioError(f"{wanted}: there is no stage {wanted.stage!r}; there are {', '.join(recipe.stages)}")
        if keys.chunks not in self._relevance:
            self._relevance[keys.chunks] = [
                relevance(table, self._positions, question, self.cover) for question in self.questions
            ]
        relevant = self._relevance[keys.chunks]
        held = self._held.setdefault(keys.chunks, {})
        rankings = pipeline.rankings(
            [question.text for question in self.questions], held, [question.beside for question in self.questions]
        )
        found = np.full(len(self.questions), np.nan)
        for row in range(len(self.questions)) if rows is None else rows.tolist():
            question = self.questions[row]
            trace = pipeline.ask_ranked(question.text, [branch[row] for branch in rankings], question.beside)
            if wanted.metric == DELIVERED:
                found[row] = cause(trace, relevant[row], True) == DELIVERED
                continue
            stage = trace.stage(wanted.stage) if wanted.stage else trace.stages[-1]
            try:
                here = relevant[row].at(stage)
                value = measured_by(wanted.metric, stage.ranking, here, table, handed_at(stage))
            except ValueError as error:
                raise DoppioError(f"{wanted}: {error}") from error
            found[row] = np.nan if value is None else value
        return found

    def _built(self, recipe: Recipe) -> tuple[ChunkTable, CorpusTexts]:
        """The chunks of a recipe and their texts, its indexes built where they were not."""
        table = self.builder.chunks(self.corpus, self._key, recipe)
        key = self.keys(recipe).chunks, recipe.chunking["context"]
        texts = self._texts.setdefault(key, CorpusTexts(self.corpus, table, recipe.chunking["context"]))
        self.builder.indexes(self._key, recipe, texts)
        return table, texts

    def _all_figures(self, recipes: Sequence[Recipe], wanted: Figure, rows: NDArray[np.int64]) -> Iterator[Floats]:
        """`figures` for one recipe after another, by whoever is there."""
        hands = self.builder.hands
        if hands.alone or not hands.shared:
            yield from (self.figures(recipe, wanted, rows) for recipe in recipes)
            return
        asking = Asking(
            fingerprint(self._key, [asdict(one) for one in self.questions], self.cover),
            self.corpus, self.questions, self.cover,
        )  # fmt: skip

        def tasks() -> Iterator[tuple[Recipe, Figure, NDArray[np.int64]]]:
            for recipe in recipes:
                self._built(recipe)
                yield recipe, wanted, rows

        yield from hands.each(figures_there, tasks(), asking)

    def tried(
        self, plan: Plan, wanted: Figure, figures: Floats, progress: Progress, *, seed: int = 0
    ) -> Iterator[int]:
        """Ask under each setting of a plan, and give its row once its figures stand in `figures`.

        Parameters
        ----------
        plan : Plan
        wanted : Figure
        figures : (settings, q) float64 array
            Is filled; NaN where nothing was asked. What stands there already, of a sweep that was stopped, is not
            asked again.
        progress : Progress
        seed : int
            Of the order of questions in successive halving.
        """
        count = len(self.questions)
        going = list(range(len(plan.recipes)))
        rounds = halving(len(going), count, seed=seed) if plan.by == HALVING else iter([np.arange(count)])
        asked = np.zeros(0, np.int64)
        for rows in rounds:
            new = np.setdiff1d(rows, asked)
            step = "try settings" if plan.by != HALVING else f"try settings, {len(rows)} questions"
            progress.start(step, len(going), "settings")
            left = [row for row in going if np.isnan(figures[row, new]).all()]
            progress.advance(len(going) - len(left))
            found = self._all_figures([plan.recipes[row] for row in left], wanted, new)
            for row, told in zip(left, found, strict=True):
                figures[row, new] = told[new]
                yield row
                progress.advance(1)
            if len(rows) == count:
                return
            asked = rows
            means = np.nanmean(figures[going], axis=1)
            best = np.argsort(-means, kind="stable")[: max(1, int(np.ceil(KEPT * len(going))))]
            # What there is now stays to the end, to be compared with.
            going = sorted({0, *(going[place] for place in best.tolist())})


def finished(figures: Floats) -> NDArray[np.int64]:
    """Rows that all questions were asked under; only these can be chosen."""
    return np.flatnonzero((np.isnan(figures) == np.isnan(figures[0])).all(axis=1))


def around(plan: Plan, kept: NDArray[np.int64]) -> list[list[int]]:
    """Of each kept row the kept ones around it; settings that were not tried as a grid stand alone."""
    if plan.by != GRID:
        return [[place] for place in range(len(kept))]
    return neighbours(plan.axes, [plan.rows[row] for row in kept.tolist()])
