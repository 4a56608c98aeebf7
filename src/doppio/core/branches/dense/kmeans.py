"""Cells of like vectors: Lloyd's iteration from a random sample.

References
----------
.. [1] S. Lloyd, "Least Squares Quantization in PCM", IEEE Transactions on Information Theory 28(2), 1982.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats

ROWS = 1 << 13


def nearest_center(rows: Floats, centers: Floats) -> NDArray[np.int32]:
    """The center nearest to each row by Euclidean distance: (n,) int32."""
    halves = np.einsum("ij,ij->i", centers, centers) / 2
    found = np.empty(len(rows), np.int32)
    for first in range(0, len(rows), ROWS):
        found[first : first + ROWS] = (rows[first : first + ROWS] @ centers.T - halves).argmax(axis=1)
    return found


def kmeans(
    rows: Floats, cells: int, *, iterations: int = 10, seed: int = 0, advance: Callable[[int], None] | None = None
) -> Floats:
    """Centers of `cells` cells: (cells, d) float32.

    Parameters
    ----------
    rows : (n, d) float32 array, n >= 1
    cells : int
        At most n are made.
    advance : callable, optional
        Told 1 after every iteration.

    Notes
    -----
    A cell that loses all of its rows takes the row that is worst served by its own center. The same rows and the
    same seed give the same centers.
    """
    random = np.random.default_rng(seed)
    cells = min(cells, len(rows))
    centers = rows[np.sort(random.choice(len(rows), cells, replace=False))].astype(np.float32)
    for _ in range(iterations):
        owner = nearest_center(rows, centers)
        counts = np.bincount(owner, minlength=cells)
        order = np.argsort(owner, kind="stable")
        begins = np.concatenate([[0], np.cumsum(counts)[:-1]])
        filled = np.flatnonzero(counts)
        sums = np.add.reduceat(rows[order], begins[filled], axis=0)
        centers[filled] = sums / counts[filled, None]
        empty = np.flatnonzero(counts == 0)
        if len(empty):
            missed = np.einsum("ij,ij->i", rows - centers[owner], rows - centers[owner])
            centers[empty] = rows[np.argsort(-missed, kind="stable")[: len(empty)]]
        if advance:
            advance(1)
    return centers
