"""The best k of many scores, in an order that never depends on chance."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Ids = NDArray[np.int64]
Scores = NDArray[np.float32]


def best_of(parts: Sequence[tuple[Ids, NDArray[np.floating]]], k: int) -> tuple[Ids, Scores]:
    """The k best of several lists of ids and scores, best first; equal scores are ordered by the smaller id."""
    if len(parts) == 1:
        ids, scores = parts[0]
    else:
        ids = np.concatenate([np.empty(0, np.int64), *(part for part, _ in parts)])
        scores = np.concatenate([np.empty(0), *(part for _, part in parts)])
    if 0 < k < scores.size:
        # All that reach the k-th score, so that ties at the edge are still ordered by id.
        near = np.flatnonzero(scores >= np.partition(scores, scores.size - k)[scores.size - k])
        ids, scores = ids[near], scores[near]
    order = np.lexsort((ids, -scores))[: max(k, 0)]
    return ids[order], scores[order].astype(np.float32)
