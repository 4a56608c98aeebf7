"""Exact nearest neighbours: every vector is compared."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.kernels.heap import offer
from doppio.core.kernels.products import products

ROWS = 1 << 14
SPARE = 16
GLANCE = 64
# Sums of float32 products differ by less than this share of the lengths with the order of addition.
CLOSE = 1e-5


def exact_candidates(
    vectors: Vectors, questions: Floats, count: int, dead: NDArray[np.bool_]
) -> list[NDArray[np.int64]]:
    """Rows among which the best `count` for each question surely are.

    Parameters
    ----------
    vectors : Vectors
        n rows of d numbers; may be mapped from disk.
    questions : (q, d) float32 array
    count : int
    dead : (n,) bool array, or empty
        Rows that are left out.

    Returns
    -------
    list of q int64 arrays
        Some more than `count` rows each, in no order; exact scores come from `metric.score_rows`.

    Raises
    ------
    ValueError
        If the dimensions differ.

    Notes
    -----
    Products come from the linear-algebra library, which adds in an order that depends on the place of a row. So a
    few rows more are kept, and where even the last of those is too close to tell, all that are as close.
    """
    if vectors.rows.shape[1:] != questions.shape[1:]:
        raise ValueError(f"vectors have {vectors.rows.shape[1]} dimensions, questions {questions.shape[1]}")
    kept = min(count + SPARE, len(vectors))
    if kept <= 0 or count <= 0:
        return [np.empty(0, np.int64)] * len(questions)
    scores, ids = np.empty((len(questions), kept), np.float32), np.empty((len(questions), kept), np.int64)
    sizes = np.zeros(len(questions), np.int64)
    step = len(vectors) if len(questions) == 1 else ROWS
    # One block for all of them: what is not asked for anew need not be brought in by the system page by page.
    block = np.empty((len(questions), min(step, len(vectors))), np.float32)
    for first in range(0, len(vectors), step):
        found = _products(vectors, questions, first, step, block)
        take_best(found, first, dead[first : first + step], scores, ids, sizes)
    candidates = []
    for row, size in enumerate(sizes.tolist()):
        near = ids[row, :size]
        if size > count:
            edge = np.partition(scores[row, :size], size - count)[size - count]
            reach = edge - CLOSE * max(abs(float(edge)), 1.0)
            if size == kept < len(vectors) and scores[row, :size].min() >= reach:
                near = _all_near(vectors, questions[row : row + 1], reach, dead)
        candidates.append(near)
    return candidates


def _products(vectors: Vectors, questions: Floats, first: int, step: int, block: Floats) -> Floats:
    rows = vectors.rows[first : first + step]
    found = products(questions, rows, block[:, : len(rows)])
    if vectors.halves.size:
        found -= vectors.halves[first : first + step]
    return found


def _all_near(vectors: Vectors, question: Floats, reach: float, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    near = _products(vectors, question, 0, len(vectors), np.empty((1, len(vectors)), np.float32))[0] >= reach
    return np.flatnonzero(near & ~dead if dead.size else near)


@njit(cache=True, nogil=True, fastmath={"nnan", "nsz", "reassoc"})
def largest(row):  # type: ignore[no-untyped-def]
    """The largest number of a row that holds no NaN; four at a time, so that none waits for the one before."""
    one = two = three = four = row[0]
    whole = row.size // 4 * 4
    for place in range(0, whole, 4):
        one, two = max(one, row[place]), max(two, row[place + 1])
        three, four = max(three, row[place + 2]), max(four, row[place + 3])
    for place in range(whole, row.size):
        one = max(one, row[place])
    return max(max(one, two), max(three, four))


@njit(cache=True, nogil=True)
def take_best(
    scores: NDArray[np.float32],
    first: int,
    dead: NDArray[np.bool_],
    heap_scores: NDArray[np.float32],
    heap_ids: NDArray[np.int64],
    sizes: NDArray[np.int64],
) -> None:
    """Offer a block of scores, one row a question, to one heap a question; column 0 is row `first`."""
    count, kept = scores.shape[1], heap_scores.shape[1]
    stretches = (count + GLANCE - 1) // GLANCE
    tops = np.empty(stretches, np.float32)
    for row in range(scores.shape[0]):
        size = sizes[row]
        own_scores, own_ids = heap_scores[row], heap_ids[row]
        edge = own_scores[0] if size == own_scores.size else np.float32(-np.inf)
        # The largest of a stretch is found on packed numbers; most stretches hold nothing that reaches the edge.
        for stretch in range(stretches):
            tops[stretch] = largest(scores[row, stretch * GLANCE : min((stretch + 1) * GLANCE, count)])
        if stretches >= kept and not dead.size:
            # So many stretches hold one that is as good, so nothing below is among the best.
            edge = max(edge, np.partition(tops, stretches - kept)[stretches - kept])
        for stretch in range(stretches):
            if tops[stretch] < edge:
                continue
            for column in range(stretch * GLANCE, min((stretch + 1) * GLANCE, count)):
                score = scores[row, column]
                if score >= edge and not (dead.size and dead[column]):
                    size = offer(own_scores, own_ids, size, score, first + column)
                    if size == own_scores.size:
                        edge = max(edge, own_scores[0])
        sizes[row] = size
