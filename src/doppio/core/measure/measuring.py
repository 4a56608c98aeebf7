"""All metrics of one ranking, and their means over questions."""

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.judged import Handed, Judged, handed_on
from doppio.core.measure.metrics.kind import METRICS
from doppio.core.measure.relevance import Relevance
from doppio.core.trace import StageTrace

Metrics = dict[str, float]
# Goes up when a metric comes to mean something else: figures of different editions are not compared.
EDITION = 2


def handed_at(stage: StageTrace) -> Handed | None:
    """By chunk what it hands on at a stage, where that is more than was found."""
    if stage.ranges is None:
        return None
    return {chunk: tuple(row) for chunk, row in zip(stage.chunks.tolist(), stage.ranges.tolist(), strict=True)}


def measure(
    ranking: NDArray[np.int64],
    relevance: Relevance,
    table: ChunkTable,
    cutoffs: Sequence[int],
    handed: Handed | None = None,
) -> Metrics:
    """Measure one ranking for one answerable question; larger is better everywhere, from 0 to 1.

    Parameters
    ----------
    ranking : (n,) int64 array
        Chunks, best first.
    relevance : Relevance
        Of a question with at least one span.
    table : ChunkTable
    cutoffs : sequence of int
        The values of k.
    handed : mapping or None
        By chunk what it hands on, where that is not what the table says; see `handed_at`.

    Notes
    -----
    What is counted is what an assistant gets: where chunks have hosts, the first k are hosts.

    Returns
    -------
    dict
        Every metric that says something: those that look at all of the ranking by their names, then for each k the
        others as `recall@k`.
    """
    judged = Judged(handed_on(ranking, table, handed), relevance, table, handed)
    found = {metric.name: metric.of(judged, len(judged.ranking)) for metric in METRICS if not metric.cut}
    for k in cutoffs:
        found |= {f"{metric.name}@{k}": metric.of(judged, k) for metric in METRICS if metric.cut}
    return {name: value for name, value in found.items() if value is not None}


def measured_by(
    metric: str,
    ranking: NDArray[np.int64],
    relevance: Relevance,
    table: ChunkTable,
    handed: Handed | None = None,
) -> float | None:
    """One metric of one ranking, by its name with its k, such as `recall@5`; see `measure`.

    Raises
    ------
    ValueError
        If there is none of that name; says which there are.
    """
    name, _, k = metric.partition("@")
    kind = METRICS.get(name)
    if kind.cut != k.isdecimal() or (kind.cut and int(k) < 1):
        right = f"{name} needs a cut-off, as in {name}@5" if kind.cut else f"{name} has no cut-off"
        raise ValueError(f"{metric!r}: {right}")
    judged = Judged(handed_on(ranking, table, handed), relevance, table, handed)
    return kind.of(judged, int(k) if kind.cut else len(judged.ranking))


def mean(rows: Iterable[Metrics]) -> Metrics:
    """Mean of each metric over the questions that have it, in the order of the first question's keys."""
    sums: dict[str, float] = {}
    counts: dict[str, int] = {}
    for row in rows:
        for key, value in row.items():
            sums[key] = sums.get(key, 0.0) + value
            counts[key] = counts.get(key, 0) + 1
    return {key: sums[key] / counts[key] for key in sums}
