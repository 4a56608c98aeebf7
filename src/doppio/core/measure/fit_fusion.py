"""Weights of branches that are fitted to labels: plain numbers for a recipe, with how sure they are."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.fusion.kind import METHODS, FusionMethod, fused_by
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Settings
from doppio.core.measure.comparing import Difference, compare
from doppio.core.measure.fitting import Floats, Listed, fit_among, fit_weights, scaled_to
from doppio.core.measure.measuring import measured_by
from doppio.core.measure.relevance import Relevance

# Fewer questions with an answer among what the branches found say too little to fit anything by.
LEAST = 20
PULLS = (1.0, 10.0, 100.0, 1000.0)
RESAMPLES = 200


@dataclass(frozen=True)
class Asked:
    """A labelled question with what each branch found for it."""

    rankings: Sequence[Ranking]
    relevance: Relevance


@dataclass(frozen=True)
class Weight:
    """The weight of a branch.

    share : of all weights, 0 to 1; low to high hold it in 95 of 100 samples of such questions
    """

    branch: str
    weight: float
    share: float
    low: float
    high: float


@dataclass(frozen=True)
class Judged:
    """A figure of the fused list: today, as fitted on the very questions, and on questions that it has not seen.

    against : the last against the first, question by question
    """

    metric: str
    today: float
    flattering: float
    honest: float
    against: Difference


@dataclass(frozen=True)
class FusionFit:
    """What was fitted.

    settings : `fusion` of a recipe without weights and depth
    told : questions with an answer among what the branches found, which is what can be fitted by
    same : in how many of the folds the same method was chosen
    """

    settings: dict[str, Any]
    weights: tuple[Weight, ...]
    figures: tuple[Judged, ...]
    questions: int
    told: int
    same: int


def fit_fusion(
    branches: Sequence[str],
    asked: Sequence[Asked],
    fusion: Settings,
    table: ChunkTable,
    metrics: Sequence[str],
    *,
    least: Sequence[float | None],
    groups: NDArray[np.int64] | None = None,
    seed: int = 0,
) -> FusionFit:
    """Fit the weights of branches to labels.

    Parameters
    ----------
    branches : ids, as the rankings stand
    asked : labelled questions
    fusion : settings of the recipe; its weights are where the fit begins, and its depth is kept
    table : ChunkTable
    metrics : what the fused list is judged by
    least : the least score that each branch can have; None where there is none
    groups : (q,) int64 array or None
        Questions of one group are rewordings of each other: they are never split.
    seed : int

    Raises
    ------
    ValueError
        If the recipe's method is not a sum over branches, or too few questions have an answer to find.

    Notes
    -----
    Beside the recipe's own method those are tried that ask for it (`fitted_with`). Weights are
    fitted listwise with a ridge to those of today, and are not negative. Method and ridge are chosen by
    cross-validation; the honest figures are those of questions that neither weights nor choice have seen. Intervals
    of the weights come from fitting to samples of the questions, drawn with their rewordings.
    """
    method = METHODS.get(fusion["method"])
    if not getattr(method, "additive", False):
        named = ", ".join(one.name for one in METHODS if getattr(one, "additive", False))
        raise ValueError(f"{method.name} is no sum over branches; weights are fitted for {named}")
    ways = _ways(fusion)
    listed = [_listed(asked, way, least) for way in ways]
    told = sum(one.right.any() for one in listed[0])
    if told < LEAST:
        raise ValueError(f"only {told} questions have an answer among what the branches found; {LEAST} are needed")
    shares = np.array([float(fusion["weights"][branch]) for branch in branches])
    starts = [scaled_to(own, shares / shares.sum()) for own in listed]
    of = np.arange(len(asked)) if groups is None else groups
    found = fit_among(listed, starts, pulls=PULLS, seed=seed, groups=of, least=0.0)
    fitted = _some(found.weights, starts[found.choice])
    low, high = _intervals(listed[found.choice], starts[found.choice], found.pull, of, seed)
    total = fitted.sum()
    # In the size of today's weights, so that they can be read beside them.
    plain = [float(f"{weight / total * shares.sum():.3g}") for weight in fitted.tolist()]
    weights = tuple(
        Weight(branch, weight, float(own / total), float(below), float(above))
        for branch, weight, own, below, above in zip(branches, plain, fitted, low, high, strict=True)
    )
    by_fold = [(ways[choice], _some(own, starts[choice])) for choice, own in found.by_fold]
    unseen = [by_fold[fold] for fold in found.part.tolist()]
    rankings = {
        "today": [_fused(one, fusion, shares, least) for one in asked],
        "flattering": [_fused(one, ways[found.choice], np.array(plain), least) for one in asked],
        "honest": [_fused(one, way, own, least) for one, (way, own) in zip(asked, unseen, strict=True)],
    }
    figures = tuple(_judged(metric, rankings, asked, table, of) for metric in metrics)
    same = sum(choice == found.choice for choice, _ in found.by_fold)
    settings = {name: value for name, value in ways[found.choice].items() if name not in ("weights", "depth")}
    return FusionFit(settings, weights, figures, len(asked), int(told), same)


def _ways(fusion: Settings) -> list[dict[str, Any]]:
    """Settings that are tried, today's first."""
    rest = {name: fusion[name] for name in ("weights", "depth")}
    found = [dict(fusion)]
    for method in METHODS:
        usual = {setting.name: setting.default for setting in method.settings}
        for told in getattr(method, "fitted_with", ()):
            found.append({**rest, METHODS.key: method.name, **usual, **told})
    return [way for place, way in enumerate(found) if way not in found[:place]]


def _listed(asked: Sequence[Asked], way: Settings, least: Sequence[float | None]) -> list[Listed]:
    """What each branch gives each chunk that it found, in one unit for all branches."""
    method = METHODS.get(way["method"])
    found = []
    for one in asked:
        fused = fused_by(method, one.rankings, [1.0] * len(one.rankings), way, least)
        found.append((fused.shares.astype(np.float64), one.relevance.any_of(fused.chunks)))
    spread = float(np.concatenate([facts for facts, _ in found]).std()) or 1.0
    return [Listed(facts / spread, right) for facts, right in found]


def _some(weights: Floats, start: Floats) -> Floats:
    """Weights, or those that were begun from where none is left."""
    return weights if weights.sum() > 0 else start


def _fused(one: Asked, way: Settings, weights: Floats, least: Sequence[float | None]) -> NDArray[np.int64]:
    method: FusionMethod = METHODS.get(way["method"])
    return fused_by(method, one.rankings, weights.tolist(), way, least).chunks[: way["depth"]]


def _intervals(
    listed: Sequence[Listed], start: Floats, pull: float, groups: NDArray[np.int64], seed: int
) -> tuple[Floats, Floats]:
    """Of the share of each branch, over samples of the groups."""
    random = np.random.default_rng(seed)
    members = [np.flatnonzero(groups == name) for name in np.unique(groups)]
    shares = []
    for _ in range(RESAMPLES):
        rows = np.concatenate([members[place] for place in random.integers(len(members), size=len(members))])
        own = _some(fit_weights([listed[row] for row in rows.tolist()], start, pull, least=0.0), start)
        shares.append(own / own.sum())
    low, high = np.percentile(np.array(shares), [2.5, 97.5], axis=0)
    return low, high


def _judged(
    metric: str,
    rankings: Mapping[str, Sequence[NDArray[np.int64]]],
    asked: Sequence[Asked],
    table: ChunkTable,
    groups: NDArray[np.int64],
) -> Judged:
    values = {}
    for name, found in rankings.items():
        told = (measured_by(metric, ranking, one.relevance, table) for ranking, one in zip(found, asked, strict=True))
        values[name] = np.array([np.nan if value is None else value for value in told], np.float64)
    (against,) = compare(np.stack([values["today"], values["honest"]]), [(0, 1)], groups=groups)
    means = {name: float(np.nanmean(own)) for name, own in values.items()}
    return Judged(metric, means["today"], means["flattering"], means["honest"], against)
