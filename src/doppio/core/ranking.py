"""The best k of many scores, in an order that never depends on chance."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Ids = NDArray[np.int64]
Scores = NDArray[np.float32]


def best_of(parts: Sequence[tuple[Ids, NDArray[np.floating]]], k: int) -> tuple[Ids, Scores]:
    """The k best of several lists of ids and scores, best first; equal scores are ordered by the smaller id."""
    ids, scores = reaching(*joined(parts), k)
    order = np.lexsort((ids, -scores))[: max(k, 0)]
    return ids[order], scores[order].astype(np.float32)


def reaching(ids: Ids, scores: NDArray[np.floating], k: int) -> tuple[Ids, NDArray[np.floating]]:
    """All that reach the k-th score, in any order, so that ties at the edge can still be ordered by id."""
    if not 0 < k < scores.size:
        return ids, scores
    near = np.flatnonzero(scores >= np.partition(scores, scores.size - k)[scores.size - k])
    return ids[near], scores[near]


def joined(parts: Sequence[tuple[Ids, NDArray[np.floating]]]) -> tuple[Ids, NDArray[np.floating]]:
    """Several lists of ids and scores as one."""
    if len(parts) == 1:
        return parts[0]
    ids = np.concatenate([np.empty(0, np.int64), *(part for part, _ in parts)])
    return ids, np.concatenate([np.empty(0), *(part for _, part in parts)])
