"""Metrics of a trial question by question, as they are kept and read."""

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.ledger import DELIVERED
from doppio.core.measure.trial import Row
from doppio.trials.models import OutsideRun, TrialFigures, TrialRecord

# Whether the answer reached the context: what the ledger counts, as a metric beside the others.
REACHED = "delivered"
# The one stage of a ranking from elsewhere.
RANKING = "ranking"


@dataclass(frozen=True)
class Figures:
    """A table (questions, stages, metrics) float32; NaN where a metric says nothing of a question."""

    questions: Sequence[int]
    stages: Sequence[str]
    metrics: Sequence[str]
    values: NDArray[np.float32]
    costs: Mapping[str, float] = field(default_factory=dict)

    def of(self, stage: str, metric: str) -> dict[int, float]:
        """A metric after a stage by question; those that it says nothing of are left out."""
        if stage not in self.stages or metric not in self.metrics:
            return {}
        column = self.values[:, self.stages.index(stage), self.metrics.index(metric)]
        known = ~np.isnan(column)
        return {
            question: float(value)
            for question, value, told in zip(self.questions, column, known, strict=True)
            if told
        }


def keep(trial: TrialRecord, rows: Sequence[Row], numbers: Mapping[str, int], costs: Mapping[str, float]) -> None:
    """Record the metrics of the rows whose questions are still there.

    `numbers` are records by id; `costs` are what is known of them beside what the rows tell.
    """
    there = [row for row in rows if row.question.id in numbers and row.question.answerable]
    stages = [stage.stage for stage in there[0].trace.stages] if there else []
    metrics = list(dict.fromkeys(name for row in there for found in row.metrics.values() for name in found))
    values = np.full((len(there), len(stages), len(metrics) + 1), np.nan, np.float32)
    column = {name: place for place, name in enumerate(metrics)}
    for place, row in enumerate(there):
        values[place, :, -1] = row.cause == DELIVERED
        for at, stage in enumerate(stages):
            for name, value in row.metrics.get(stage, {}).items():
                values[place, at, column[name]] = value
    found = {**_costs(rows), **costs}
    write(trial, Figures([numbers[row.question.id] for row in there], stages, [*metrics, REACHED], values, found))


def _costs(rows: Sequence[Row]) -> dict[str, float]:
    """What every question costs; those that nothing answers cost as much."""
    if not rows:
        return {}
    seconds = [sum(row.trace.seconds.values()) for row in rows]
    tokens = [row.trace.tokens for row in rows]
    return {
        "milliseconds": round(1000 * float(np.median(seconds)), 3),
        "tokens": round(float(np.mean(tokens)), 1),
    }


def write(trial: TrialRecord, figures: Figures) -> None:
    TrialFigures.objects.create(
        trial=trial,
        questions=list(figures.questions),
        stages=list(figures.stages),
        metrics=list(figures.metrics),
        values=packed(figures.values),
        costs=dict(figures.costs),
    )


def read(row: TrialFigures) -> Figures:
    return Figures(row.questions, row.stages, row.metrics, _unpacked(row, len(row.stages)), row.costs)


def read_run_figures(row: OutsideRun) -> Figures:
    """Those of a ranking from elsewhere, which has one stage."""
    return Figures(row.questions, [RANKING], row.metrics, _unpacked(row, 1))


def packed(values: NDArray[np.float32]) -> bytes:
    """A table as it is kept."""
    return zlib.compress(values.astype("<f4").tobytes(), 1)


def _unpacked(row: TrialFigures | OutsideRun, stages: int) -> NDArray[np.float32]:
    shape = (len(row.questions), stages, len(row.metrics))
    return np.frombuffer(zlib.decompress(bytes(row.values)), "<f4").reshape(shape)
