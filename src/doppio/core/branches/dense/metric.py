"""How alike are two vectors? Larger is always better."""

from dataclasses import dataclass, field

import numpy as np
from numba import njit
from numpy.typing import NDArray

COSINE, INNER, EUCLIDEAN = "cosine", "inner-product", "euclidean"
METRICS = (COSINE, INNER, EUCLIDEAN)
MEASURES = {
    COSINE: "cosine, -1 to 1",
    INNER: "inner product",
    EUCLIDEAN: "distance with a minus sign, up to 0",
}
Floats = NDArray[np.float32]
# What rounding does to a length.
NEARLY = 1e-4


@dataclass(frozen=True)
class Vectors:
    """Vectors of one segment, as a search compares them.

    rows : (n, d) float32, mapped from disk; unit vectors where the metric is the cosine
    halves : (n,) float32, half of the squared length of each where the metric is the distance, or else empty
    squares : (n,) float32, the squared length of each where the metric is the inner product and they differ, or
        else empty: then the nearest are not the best, and a structure that goes by nearness has to know

    Notes
    -----
    For every metric the ranking is that of `q . v - halves`: with unit vectors the inner product is the cosine,
    and the squared distance is |q|^2 - 2 (q . v - |v|^2 / 2).
    """

    rows: Floats
    halves: Floats
    squares: Floats = field(default_factory=lambda: np.empty(0, np.float32))

    def __len__(self) -> int:
        return len(self.rows)


def prepared(rows: Floats, squares: NDArray[np.float32], metric: str) -> Vectors:
    """Vectors of a segment for a metric.

    Parameters
    ----------
    rows : (n, d) float32 array
        Of unit length where the metric is the cosine.
    squares : (n,) float32 array
        The squared length of each row.
    """
    none = np.empty(0, np.float32)
    if metric == EUCLIDEAN:
        return Vectors(rows, (squares / 2).astype(np.float32))
    return Vectors(rows, none, squares if metric == INNER and length_spread(squares) > NEARLY else none)


def length_spread(squares: NDArray[np.float32]) -> float:
    """Standard deviation of the logarithms of lengths, from their squares; vectors without length are left out."""
    there = squares[squares > 0]
    return float(np.log(there.astype(np.float64)).std() / 2) if len(there) else 0.0


def of_unit_length(rows: Floats) -> Floats:
    """Rows brought to unit length: (n, d) float32; one that has it already, or none at all, stays as it is."""
    lengths = np.linalg.norm(rows.astype(np.float64), axis=1)
    others = (np.abs(lengths - 1) > NEARLY) & (lengths > 0)
    if not others.any():
        return rows
    found = rows.copy()
    found[others] = (rows[others] / lengths[others, None]).astype(np.float32)
    return found


def shown(scores: NDArray[np.float64], question: Floats, metric: str) -> NDArray[np.float64]:
    """Scores for people from `q . v - halves`."""
    if metric != EUCLIDEAN:
        return scores
    square = float(np.dot(question.astype(np.float64), question.astype(np.float64)))
    return -np.sqrt(np.maximum(square - 2 * scores, 0.0))


@njit(cache=True, nogil=True)
def score_rows(
    rows: NDArray[np.float32], halves: NDArray[np.float32], question: NDArray[np.float32], ids: NDArray[np.int64]
) -> NDArray[np.float64]:
    """`q . v - halves` of some rows in one fixed order of addition, so that it does not depend on their place."""
    found = np.empty(ids.size, np.float64)
    dimension = question.size
    for at in range(ids.size):
        row = ids[at]
        # Four sums side by side, so that one addition need not wait for the last.
        a = b = c = d = 0.0
        column = 0
        while column + 3 < dimension:
            a += np.float64(rows[row, column]) * np.float64(question[column])
            b += np.float64(rows[row, column + 1]) * np.float64(question[column + 1])
            c += np.float64(rows[row, column + 2]) * np.float64(question[column + 2])
            d += np.float64(rows[row, column + 3]) * np.float64(question[column + 3])
            column += 4
        while column < dimension:
            a += np.float64(rows[row, column]) * np.float64(question[column])
            column += 1
        total = (a + b) + (c + d)
        if halves.size:
            total -= np.float64(halves[row])
        found[at] = total
    return found
