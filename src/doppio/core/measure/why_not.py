"""Why a passage is not handed on: where it stood at each stage, what it lacked, and what would have brought it in."""

import copy
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from doppio.core.branches.kind import SPARSE, kind_of
from doppio.core.errors import RecipeError
from doppio.core.fusion.pouring import Ranking
from doppio.core.measure.sweep_plan import with_settings
from doppio.core.pipeline import Pipeline
from doppio.core.question.reading import NOTHING_BESIDE, Beside
from doppio.core.recipe.recipe import Recipe
from doppio.core.trace import CONTEXT, FUSED, RERANKED, Trace

# How deep branches are asked beyond their own depth; what lies below that stood nowhere.
DEEPEST = 10_000
# Factors of a weight, the smallest change first.
FACTORS = (1.25, 0.8, 1.5, 0.67, 2.0, 0.5, 3.0, 0.33, 5.0, 0.2, 10.0, 0.1)
BUDGETS = (1.25, 1.5, 2.0, 3.0, 4.0)
# A shortlist that is deeper costs more than anybody pays.
LONGEST = 100
# The whole part of a recipe, which can be left out.
WITHOUT = "rerank"
# Steps of the context that pass over something, and the kind of each that does not.
CHOOSING, NOTHING_CHOSEN = ("versions", "diversity"), "none"
NOT_FOUND, BEYOND_DEPTH = "not found", "beyond the depth"


@dataclass(frozen=True)
class Stood:
    """Where a passage stood at a stage.

    kind : "sparse", "dense", "fused", "reranked" or "context"
    rank : from 1, also beyond the depth; None where it was not there at all
    score : what it had; None where it was not there
    last : the score of the last one that went on from there; None where nothing did
    on : whether it went on
    reason : why not
    """

    stage: str
    kind: str
    rank: int | None
    score: float | None
    last: float | None
    on: bool
    reason: str


@dataclass(frozen=True)
class Change:
    """A setting that alone would have brought the passage in, and the nearest of the values that were tried."""

    path: str
    now: Any
    needed: Any


@dataclass(frozen=True)
class WhyNot:
    """What is said of one passage.

    left : the stage at which it left; empty where it is handed on
    lacking : terms of the question that the passage does not hold, rarest first
    changes : each of which alone brings it in
    """

    chunk: int
    stood: tuple[Stood, ...]
    left: str
    lacking: tuple[str, ...]
    changes: tuple[Change, ...]


def why_not(pipeline: Pipeline, question: str, chunks: Sequence[int], beside: Beside = NOTHING_BESIDE) -> WhyNot:
    """Say why a passage is not handed on.

    Parameters
    ----------
    pipeline : Pipeline
    question : str
    chunks : sequence of int
        The passages that are meant; of several the one that came furthest is told.
    beside : Beside
        What belongs to the question.

    Notes
    -----
    Branches are asked to 10,000 chunks, so ranks beyond the depth are told; of an approximate search the order below
    its depth is its own. Every change is tried: the question is taken through the whole line with that one setting
    changed, and the change is told where the passage then stands in the context.
    """
    asking = _Asking.of(pipeline, question, beside)
    trace = asking.trace(pipeline.recipe)
    chunk = _furthest(asking, trace, chunks)
    stood = tuple(_stood(asking, trace, chunk))
    left = _left(stood)
    changes = tuple(_changes(asking, stood, chunk)) if left else ()
    return WhyNot(chunk, stood, left, _lacking(pipeline, question, chunk), changes)


@dataclass(frozen=True)
class _Asking:
    """One question, with what the branches find for it far beyond their depths."""

    pipeline: Pipeline
    question: str
    deep: Sequence[Ranking]
    beside: Beside

    @classmethod
    def of(cls, pipeline: Pipeline, question: str, beside: Beside) -> "_Asking":
        body = copy.deepcopy(pipeline.recipe.body)
        for branch in body["branches"]:
            branch["depth"] = max(branch["depth"], min(DEEPEST, len(pipeline.chunks)))
        deepest = replace(pipeline, recipe=Recipe(body))
        deep = [found[0] for found in deepest.rankings([question], {}, [beside])]
        if pipeline.reranker is not None:
            pipeline = replace(pipeline, reranker=pipeline.reranker.keeping({}))
        return cls(pipeline, question, deep, beside)

    def cut(self, recipe: Recipe) -> list[Ranking]:
        return [
            (chunks[: branch["depth"]], scores[: branch["depth"]])
            for branch, (chunks, scores) in zip(recipe.branches, self.deep, strict=True)
        ]

    def trace(self, recipe: Recipe) -> Trace:
        return replace(self.pipeline, recipe=recipe).ask_ranked(self.question, self.cut(recipe), self.beside)

    def fused(self, recipe: Recipe) -> Ranking:
        """All that the mix holds, whatever its depth."""
        body = copy.deepcopy(recipe.body)
        body["fusion"]["depth"] = len(self.pipeline.chunks) + 1
        found = replace(self.pipeline, recipe=Recipe(body)).fuse(self.cut(recipe))
        return found.chunks, found.scores


def _furthest(asking: _Asking, trace: Trace, chunks: Sequence[int]) -> int:
    """The passage that went on furthest; of those the one that stands highest in the mix, or in a branch."""
    order = {chunk: place for place, chunk in enumerate(asking.fused(asking.pipeline.recipe)[0].tolist())}
    deep = [{chunk: place for place, chunk in enumerate(ids.tolist())} for ids, _ in asking.deep]
    many = len(asking.pipeline.chunks)

    def key(chunk: int) -> tuple[int, int, int]:
        stages = sum(chunk in stage.passed for stage in trace.stages if stage.stage in (FUSED, RERANKED, CONTEXT))
        return -stages, order.get(chunk, many), min((own.get(chunk, many) for own in deep), default=many)

    return min(chunks, key=key)


def _stood(asking: _Asking, trace: Trace, chunk: int) -> Iterator[Stood]:
    recipe = asking.pipeline.recipe
    for branch, ranking in zip(recipe.branches, asking.deep, strict=True):
        stage = trace.stage(branch["id"])
        rank, score = _place(ranking, chunk)
        on = chunk in stage.passed
        reason = "" if on else NOT_FOUND if rank is None else BEYOND_DEPTH
        if not on and chunk in stage.chunks:
            reason = stage.reasons[stage.chunks.tolist().index(chunk)]
        yield Stood(stage.stage, kind_of(branch).family, rank, score, _last(stage), on, reason)
    stage = trace.stage(FUSED)
    rank, score = _place(asking.fused(recipe), chunk)
    on = chunk in stage.passed
    told = stage.reasons[stage.chunks.tolist().index(chunk)] if chunk in stage.chunks else BEYOND_DEPTH
    yield Stood(FUSED, FUSED, rank, score, _last(stage), on, "" if on else NOT_FOUND if rank is None else told)
    for name in (RERANKED, CONTEXT):
        if not trace.has(name):
            continue
        stage = trace.stage(name)
        rank, score = _place((stage.chunks, stage.scores), chunk)
        on = chunk in stage.passed
        reason = "" if on else NOT_FOUND if rank is None else stage.reasons[rank - 1]
        yield Stood(name, name, rank, score, _last(stage), on, reason)


def _place(ranking: Ranking, chunk: int) -> tuple[int | None, float | None]:
    chunks, scores = ranking
    where = (chunks == chunk).nonzero()[0]
    return (int(where[0]) + 1, float(scores[where[0]])) if len(where) else (None, None)


def _last(stage: Any) -> float | None:
    return float(stage.scores[stage.kept][-1]) if stage.kept.any() else None


def _left(stood: Sequence[Stood]) -> str:
    """The stage that it left at: a branch where none of them found it."""
    branches = [one for one in stood if one.kind not in (FUSED, RERANKED, CONTEXT)]
    if not any(one.on for one in branches):
        return branches[0].stage if len(branches) == 1 else "branches"
    return next((one.stage for one in stood if one not in branches and not one.on), "")


def _changes(asking: _Asking, stood: Sequence[Stood], chunk: int) -> Iterator[Change]:
    recipe = asking.pipeline.recipe
    for path, now, values in _tries(recipe, stood):
        for value in values:
            try:
                trace = asking.trace(with_settings(recipe, {path: value}))
            except RecipeError:
                continue
            if chunk in trace.stage(CONTEXT).passed:
                yield Change(path, now, value)
                break


def _tries(recipe: Recipe, stood: Sequence[Stood]) -> Iterator[tuple[str, Any, Sequence[Any]]]:
    """Settings that could bring it in, with values to try, the nearest first."""
    at = {one.stage: one for one in stood}
    for place, branch in enumerate(recipe.branches):
        own = at[branch["id"]]
        if own.rank is not None and own.rank > branch["depth"]:
            yield f"branches[{place}].depth", branch["depth"], [own.rank]
        yield from _floors(f"branches[{place}]", branch)
    if len(recipe.branches) > 1:
        for identity, weight in recipe.fusion["weights"].items():
            values = [float(f"{weight * factor:.3g}") for factor in FACTORS] if weight else [0.1, 0.5, 1.0]
            yield f"fusion.weights.{identity}", weight, values
    yield from _floors("fusion", recipe.fusion)
    if recipe.rerank:
        fused, shortlist = at[FUSED].rank, recipe.rerank["shortlist"]
        if fused is not None and shortlist < fused <= LONGEST:
            yield "rerank.shortlist", shortlist, [fused]
        yield from _floors("rerank", recipe.rerank)
        yield WITHOUT, ", ".join(use["scorer"] for use in recipe.scorers), [None]
    before = at[RERANKED] if recipe.rerank else at[FUSED]
    k = recipe.select["k"]
    if before.rank is not None and k < before.rank <= LONGEST:
        yield "select.k", k, range(k + 1, before.rank + 1)
    budget = recipe.select["budget_tokens"]
    yield "select.budget_tokens", budget, [round(budget * more) for more in BUDGETS]
    for step in CHOOSING:
        if recipe.select[step]["kind"] != NOTHING_CHOSEN:
            yield f"select.{step}.kind", recipe.select[step]["kind"], [NOTHING_CHOSEN]
    if recipe.select["empty_below"] is not None:
        yield "select.empty_below", recipe.select["empty_below"], [None]


def _floors(path: str, told: dict[str, Any]) -> Iterator[tuple[str, Any, Sequence[Any]]]:
    for name in ("floor", "floor_share"):
        if told.get(name) is not None:
            yield f"{path}.{name}", told[name], [None]


def _lacking(pipeline: Pipeline, question: str, chunk: int) -> tuple[str, ...]:
    """Terms of the question that a passage does not hold, by the first sparse branch."""
    for branch in pipeline.recipe.branches:
        if kind_of(branch).family == SPARSE:
            for found in pipeline.branches[branch["id"]].explain(question, [chunk]):
                terms = [term for term in found.terms if not term.in_chunk]
                return tuple(term.term for term in sorted(terms, key=lambda one: -one.idf))
    return ()
