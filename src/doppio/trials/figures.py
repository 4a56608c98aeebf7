"""Metrics of a trial question by question, as they are kept and read."""

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.ledger import DELIVERED
from doppio.core.measure.trial import Row
from doppio.trials.models import TrialFigures, TrialRecord

# Whether the answer reached the context: what the ledger counts, as a metric beside the others.
REACHED = "delivered"


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


def keep(trial: TrialRecord, rows: Sequence[Row], numbers: Mapping[str, int], index_bytes: int) -> None:
    """Record the metrics of the rows whose questions are still there; `numbers` are records by id."""
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
    costs = _costs(rows, index_bytes)
    write(trial, Figures([numbers[row.question.id] for row in there], stages, [*metrics, REACHED], values, costs))


def _costs(rows: Sequence[Row], index_bytes: int) -> dict[str, float]:
    """What every question costs; those that nothing answers cost as much."""
    if not rows:
        return {}
    seconds = [sum(row.trace.seconds.values()) for row in rows]
    tokens = [row.trace.tokens for row in rows]
    return {
        "milliseconds": round(1000 * float(np.median(seconds)), 3),
        "tokens": round(float(np.mean(tokens)), 1),
        "bytes": float(index_bytes),
    }


def write(trial: TrialRecord, figures: Figures) -> None:
    TrialFigures.objects.create(
        trial=trial,
        questions=list(figures.questions),
        stages=list(figures.stages),
        metrics=list(figures.metrics),
        values=zlib.compress(figures.values.astype("<f4").tobytes(), 1),
        costs=dict(figures.costs),
    )


def read(row: TrialFigures) -> Figures:
    shape = (len(row.questions), len(row.stages), len(row.metrics))
    values = np.frombuffer(zlib.decompress(bytes(row.values)), "<f4").reshape(shape)
    return Figures(row.questions, row.stages, row.metrics, values, row.costs)
