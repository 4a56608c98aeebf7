"""The best k of many scores, in an order that never depends on chance."""

import numpy as np
from numpy.typing import NDArray

Ids = NDArray[np.int64]
Scores = NDArray[np.float32]


def best(scores: NDArray[np.floating], k: int, *, above: float | None = None) -> tuple[Ids, Scores]:
    """Find the k largest scores.

    Parameters
    ----------
    scores : (n,) float array
        One score a chunk; the position is the chunk's id. Larger is better.
    k : int
        How many to return at the most.
    above : float, optional
        Only scores strictly greater than this one are returned.

    Returns
    -------
    ids : (m,) int64 array
        Positions, best first, with m <= k.
    scores : (m,) float32 array

    Notes
    -----
    Equal scores are ordered by the smaller id, also at the edge of the list.
    """
    if k <= 0 or scores.size == 0:
        return np.empty(0, np.int64), np.empty(0, np.float32)
    if k < scores.size:
        edge = np.partition(scores, scores.size - k)[scores.size - k]
        surely = np.flatnonzero(scores > edge)
        level = np.flatnonzero(scores == edge)[: k - surely.size]
        ids = np.concatenate([surely, level])
    else:
        ids = np.arange(scores.size)
    if above is not None:
        ids = ids[scores[ids] > above]
    ids = ids[np.lexsort((ids, -scores[ids]))].astype(np.int64)
    return ids, scores[ids].astype(np.float32)
