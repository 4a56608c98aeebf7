"""Weights of scorers and facts, fitted on manuals: scorers of their own, and where fitting to labels begins."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.fitting import Listed, fit_weights
from training.known import NAMES
from training.manuals import FOLDS
from training.scoring import ABSENT, Floats, Row

# In questions, of which there are thousands: it holds only what they say nothing of.
PULL = 10.0
# Scorers by the names that recipes use, and where their scores stand in a row.
JOINT, LATE = ("joint-english", "joint"), ("late-interaction", "late")


@dataclass(frozen=True)
class Weighing:
    """What is weighed.

    name : of the scorer that ships; title : what people read
    scorers : those that it asks
    """

    name: str
    title: str
    scorers: tuple[tuple[str, str], ...]

    @property
    def columns(self) -> list[str]:
        return [*(scorer for scorer, _ in self.scorers), *NAMES]

    def values(self, row: Row) -> Floats:
        """(n, f) float64 of a row, a column each of `columns`."""
        assert row.facts is not None
        return np.column_stack([*(row.scores[own] for _, own in self.scorers), row.facts])


FULL = Weighing("weighed-english", "joint scorer, late interaction and facts, weighed", (JOINT, LATE))
LIGHT = Weighing("weighed-light", "late interaction and facts, weighed", (LATE,))
WEIGHINGS = (FULL, LIGHT)


def held_out(rows: Sequence[Row], weighing: Weighing) -> list[Row]:
    """Rows with a score more: by weights of other folds than their own."""
    values = [weighing.values(row) for row in rows]
    folds = np.array([row.fold for row in rows])
    found = list(rows)
    for left in range(FOLDS):
        weights = _fit(rows, values, folds != left)
        for place in np.flatnonzero(folds == left).tolist():
            scores = rows[place].scores | {weighing.name: _scores(values[place], *weights)}
            found[place] = replace(rows[place], scores=scores)
    return found


def weights_of(rows: Sequence[Row], weighing: Weighing) -> dict[str, dict[str, float]]:
    """By name {"weight", "centre", "spread"}, fitted on all rows."""
    values = [weighing.values(row) for row in rows]
    parts = zip(weighing.columns, *_fit(rows, values, np.ones(len(rows), bool)), strict=True)
    return {
        name: {"weight": float(weight), "centre": float(centre), "spread": float(spread)}
        for name, weight, centre, spread in parts
    }


def shipped(weighing: Weighing, judged: dict[str, Any], window: int) -> dict[str, Any]:
    """What ships, as the folder of a fitted scorer has it."""
    found = judged["weighed"][weighing.name]
    return {
        "title": weighing.title,
        "scorers": [scorer for scorer, _ in weighing.scorers],
        "facts": list(NAMES),
        "weights": found["weights"],
        "window": window,
        "windows": 1,
        "calibration": {key: found["pairs"][key] for key in ("slope", "offset")},
        "answerable": found["questions"]["model"],
    }


def _fit(rows: Sequence[Row], values: Sequence[Floats], taken: NDArray[np.bool_]) -> tuple[Floats, Floats, Floats]:
    """Weights, and the centres and spreads that values are brought to one scale by."""
    own = [place for place in np.flatnonzero(taken).tolist() if rows[place].kind != ABSENT]
    every = np.concatenate([values[place] for place in own])
    centre, spread = np.nanmean(every, axis=0), np.maximum(np.nanstd(every, axis=0), 1e-9)
    listed = [Listed(np.nan_to_num((values[place] - centre) / spread), rows[place].right) for place in own]
    return fit_weights(listed, np.zeros(len(centre)), PULL), centre, spread


def _scores(values: Floats, weights: Floats, centre: Floats, spread: Floats) -> Floats:
    return np.asarray(np.nan_to_num((values - centre) / spread) @ weights, np.float64)
