"""A scorer that is fitted to labelled questions: from what a recipe does today, as far as the labels carry."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.calibrating import slope_and_offset
from doppio.core.measure.fitting import Fitted, Floats, Listed, fit_honestly, scaled_to
from doppio.core.measure.significance import paired_randomisation
from doppio.core.models.fitted_folder import Weight

# Fewer questions with an answer in their shortlists say too little to fit anything by.
LEAST = 20
CUTOFFS = (1, 3, 5)
FUSED = "fused"
NOT_FOUND = 10_000


@dataclass(frozen=True)
class Gathered:
    """The shortlist of one labelled question.

    values : (n, f) float64, a column a scorer or a fact, NaN where something is not known
    right : (n,) bool
    today : (n,) float64, what orders it today
    """

    values: Floats
    right: NDArray[np.bool_]
    today: Floats


@dataclass(frozen=True)
class Outcome:
    """What was fitted.

    weights : by name {"weight", "centre", "spread"}, as `FittedFolder` has them
    start : by name the weight that was begun from
    calibration : {"slope", "offset"}
    figures : what it is worth on questions that it has not seen, beside today; all of it about shortlists
    """

    weights: dict[str, dict[str, float]]
    start: dict[str, float]
    calibration: dict[str, float]
    figures: dict[str, Any]


def fit_to_labels(
    names: Sequence[str],
    gathered: Sequence[Gathered],
    today: Mapping[str, float],
    begin: Mapping[str, Weight] | None = None,
    groups: NDArray[np.int64] | None = None,
) -> Outcome:
    """Fit weights of scorers and facts to labels.

    Parameters
    ----------
    names : f names of scorers and facts, as the columns of `values` stand
    gathered : labelled questions
    today : by name, the share that each has in today's order; those that are left out have none
    begin : by name, weights that were fitted elsewhere, which are begun from instead; None where there are none.
        What it does not name begins at 0
    groups : (q,) int64 array or None
        Questions of one group are rewordings of each other: they are never split.

    Raises
    ------
    ValueError
        If fewer than 20 of the questions have an answer in their shortlists.

    Notes
    -----
    Values are standardised over all pairs, or as `begin` says. Weights begin as today's shares, or those of `begin`,
    times the one factor under which the labels are likeliest, and move away from there by `fit_honestly`. The figures
    are those of held-out questions.
    """
    told = [one for one in gathered if one.right.any()]
    if len(told) < LEAST:
        raise ValueError(
            f"only {len(told)} labelled questions have an answer in their shortlists; {LEAST} are needed to fit by"
        )
    centre, spread = _scale(names, gathered, begin)
    listed = [Listed(np.nan_to_num((one.values - centre) / spread, nan=0.0), one.right) for one in gathered]
    known = {name: one.weight for name, one in begin.items()} if begin else today
    shares = np.array([known.get(name, 0.0) for name in names])
    start = scaled_to(listed, shares)
    fitted = fit_honestly(listed, start, groups=groups)
    return Outcome(
        {
            name: {"weight": float(weight), "centre": float(mid), "spread": float(wide)}
            for name, weight, mid, wide in zip(names, fitted.weights, centre, spread, strict=True)
        },
        dict(zip(names, start.tolist(), strict=True)),
        _calibration(fitted, gathered),
        _figures(fitted, gathered),
    )


def _scale(
    names: Sequence[str], gathered: Sequence[Gathered], begin: Mapping[str, Weight] | None
) -> tuple[Floats, Floats]:
    """Centres and spreads of the columns."""
    every = np.concatenate([one.values for one in gathered])
    known = np.where(np.isnan(every).all(axis=0), 0.0, every)
    centre, spread = np.nan_to_num(np.nanmean(known, axis=0)), np.nan_to_num(np.nanstd(known, axis=0))
    spread = np.where(spread > 1e-9, spread, 1.0)
    for column, name in enumerate(names):
        if begin and name in begin:
            centre[column], spread[column] = begin[name].centre, begin[name].spread
    return centre, spread


def _calibration(fitted: Fitted, gathered: Sequence[Gathered]) -> dict[str, float]:
    """Slope and offset by the held-out scores."""
    right = np.concatenate([one.right for one in gathered])
    slope, offset = slope_and_offset(np.concatenate(fitted.held_out), right)
    return {"slope": slope, "offset": offset}


def _figures(fitted: Fitted, gathered: Sequence[Gathered]) -> dict[str, Any]:
    today = np.array([_first(one.today, one.right) for one in gathered])
    after = np.array([_first(scores, one.right) for scores, one in zip(fitted.held_out, gathered, strict=True)])
    reciprocal = [np.where(first < NOT_FOUND, 1 / first, 0.0) for first in (today, after)]
    return {
        "questions": len(gathered),
        "answered": int((today < NOT_FOUND).sum()),
        "pull": fitted.pull,
        "today": _told(today),
        "fitted": _told(after),
        "p": paired_randomisation(reciprocal[1], reciprocal[0]),
        "better": int((after < today).sum()),
        "worse": int((after > today).sum()),
    }


def _first(scores: Floats, right: NDArray[np.bool_]) -> int:
    """Rank of the first passage that answers, from 1."""
    ordered = right[np.argsort(-scores, kind="stable")]
    return int(ordered.argmax()) + 1 if ordered.any() else NOT_FOUND


def _told(first: NDArray[np.int64]) -> dict[str, float]:
    hits = {f"hit@{k}": float((first <= k).mean()) for k in CUTOFFS}
    return {**hits, "mrr": float(np.where(first < NOT_FOUND, 1 / first, 0.0).mean())}
