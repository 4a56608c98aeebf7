"""How good is a ranking? Recall, hit rate, precision, reciprocal rank, nDCG, coverage and density."""

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.relevance import Relevance

Metrics = dict[str, float]
NEVER = np.iinfo(np.int64).max


def measure(ranking: NDArray[np.int64], relevance: Relevance, table: ChunkTable, cutoffs: Sequence[int]) -> Metrics:
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

    Returns
    -------
    dict
        `mrr`, and for each k `recall@k` (spans with a relevant chunk among the first k), `hit@k` (1 if there
        is any), `precision@k` (relevant chunks among the first k, over k), `ndcg@k`, `coverage@k` (the
        spans' characters that the first k hold) and `density@k` (characters of the first k that are answer).
        The last two are left out where no span has offsets.

    Notes
    -----
    For nDCG the first relevant chunk of a span earns its grade and later ones nothing; gains are linear and
    discounted by log2(rank + 1). The ideal has one span a rank, highest grade first, whatever the chunking;
    a chunk that meets several spans earns all their grades at once, and the quotient is held to 1.

    References
    ----------
    .. [1] K. Jarvelin, J. Kekalainen, "Cumulated gain-based evaluation of IR techniques", TOIS 20(4), 2002.
    """
    matrix = relevance.matrix(ranking)
    spans, length = matrix.shape
    relevant = np.asarray(matrix.any(axis=0))
    met = matrix.any(axis=1)
    first = np.where(met, matrix.argmax(axis=1), NEVER) if length else np.full(spans, NEVER)
    discounts = 1 / np.log2(np.arange(2, max(length, spans) + 2))
    earned = np.where(met, relevance.grades * discounts[np.minimum(first, len(discounts) - 1)], 0.0)
    ideal = np.sort(relevance.grades)[::-1] * discounts[:spans]
    found: Metrics = {"mrr": 1 / (1 + int(first.min())) if met.any() else 0.0}
    for k in cutoffs:
        found[f"recall@{k}"] = float((first < k).mean())
        found[f"hit@{k}"] = float(relevant[:k].any())
        found[f"precision@{k}"] = float(relevant[:k].sum() / k)
        best = float(ideal[:k].sum())
        found[f"ndcg@{k}"] = min(float(earned[first < k].sum()) / best, 1.0) if best else 0.0
        if any(span is not None for span in relevance.ranges):
            found[f"coverage@{k}"], found[f"density@{k}"] = _coverage(ranking[:k], relevance, table)
    return found


def mean(rows: Iterable[Metrics]) -> Metrics:
    """Mean of each metric over the questions that have it, in the order of the first question's keys."""
    sums: dict[str, float] = {}
    counts: dict[str, int] = {}
    for row in rows:
        for key, value in row.items():
            sums[key] = sums.get(key, 0.0) + value
            counts[key] = counts.get(key, 0) + 1
    return {key: sums[key] / counts[key] for key in sums}


def _coverage(chunks: NDArray[np.int64], relevance: Relevance, table: ChunkTable) -> tuple[float, float]:
    spans = [span for span in relevance.ranges if span is not None]
    total = covered = answer = 0
    # Chunks of one host hand on the same text, and it is paid for once.
    pieces = list(dict.fromkeys((int(table.document[c]), int(table.host_start[c]), int(table.host_end[c]))
                                for c in chunks))  # fmt: skip
    paid = sum(end - start for _, start, end in pieces)
    for position, start, end in spans:
        total += end - start
        covered += _union([_shared(piece, (position, start, end)) for piece in pieces])
    for piece in pieces:
        answer += _union([_shared(piece, span) for span in spans])
    return covered / total if total else 0.0, answer / paid if paid else 0.0


def _shared(one: tuple[int, int, int], other: tuple[int, int, int]) -> tuple[int, int]:
    if one[0] != other[0]:
        return 0, 0
    low, high = max(one[1], other[1]), min(one[2], other[2])
    return (low, high) if low < high else (0, 0)


def _union(ranges: list[tuple[int, int]]) -> int:
    """Length of the union of ranges."""
    total = reached = 0
    for low, high in sorted(ranges):
        low = max(low, reached)
        if high > low:
            total += high - low
            reached = high
    return total
