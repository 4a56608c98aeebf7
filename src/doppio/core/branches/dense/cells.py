"""Inverted lists over cells: only the cells nearest to a question are looked into.

References
----------
.. [1] J. Sivic, A. Zisserman, "Video Google: A Text Retrieval Approach to Object Matching in Videos", ICCV 2003.
"""

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import ByteCodes, byte_codes, byte_product, question_code
from doppio.core.branches.dense.kmeans import kmeans, nearest_center
from doppio.core.branches.dense.metric import Floats
from doppio.core.kernels.heap import offer

SAMPLE_A_CELL = 64


@dataclass(frozen=True)
class Cells:
    """Rows sorted by cell, in one byte a number.

    centers : (c, d) float32
    center_halves : (c,) float32, what is taken from a center's product with a question to compare cells
    begins : (c + 1,) int64, the first entry of each cell
    members : (n,) int32, rows in the order of the cells
    codes : ByteCodes in the order of the cells
    """

    centers: Floats
    center_halves: NDArray[np.float32]
    begins: NDArray[np.int64]
    members: NDArray[np.int32]
    codes: ByteCodes

    def __len__(self) -> int:
        return len(self.members)


def build_cells(rows: Floats, squares: NDArray[np.float32], cells: int, *, seed: int = 0) -> Cells:
    """Part (n, d) float32 rows into cells; the centers are found on a sample of 64 rows a cell.

    Parameters
    ----------
    squares : (n,) float32 array
        The squared lengths where the best rows are those of the largest inner product, or else empty.

    Notes
    -----
    With inner products the nearest cell is not the best one: cells are compared by the mean direction of their rows
    times the length of the longest. Measured beside a reduction to distances (Bachrach and others, RecSys 2014) that
    found a little more at any spread of lengths.
    """
    cells = max(1, min(cells, len(rows)))
    dimension = rows.shape[1]
    if not len(rows):
        return Cells(np.zeros((1, dimension), np.float32), np.zeros(1, np.float32), np.zeros(2, np.int64),
                     np.empty(0, np.int32), byte_codes(rows))  # fmt: skip
    sample = min(len(rows), SAMPLE_A_CELL * cells)
    chosen = np.sort(np.random.default_rng(seed).choice(len(rows), sample, replace=False))
    centers = kmeans(np.asarray(rows[chosen]), cells, seed=seed)
    owner = nearest_center(rows, centers)
    members = np.argsort(owner, kind="stable").astype(np.int32)
    begins = np.concatenate([[0], np.cumsum(np.bincount(owner, minlength=len(centers)))]).astype(np.int64)
    halves = np.einsum("ij,ij->i", centers, centers) / 2
    if squares.size:
        centers, halves = _directions(rows, squares, members, begins), np.zeros_like(halves)
    codes = byte_codes(rows)
    return Cells(centers, halves, begins, members, ByteCodes(codes.codes[members], codes.scales[members]))


def _directions(
    rows: Floats, squares: NDArray[np.float32], members: NDArray[np.int32], begins: NDArray[np.int64]
) -> Floats:
    """The mean direction of the rows of each cell times the length of the longest: (c, d) float32."""
    lengths = np.sqrt(np.maximum(squares, 1e-30))
    found = np.zeros((len(begins) - 1, rows.shape[1]), np.float32)
    for cell, (low, high) in enumerate(pairwise(begins.tolist())):
        own = members[low:high]
        if len(own):
            found[cell] = (rows[own] / lengths[own, None]).mean(axis=0) * lengths[own].max()
    return found


def cell_candidates(
    cells: Cells, halves: NDArray[np.float32], question: Floats, count: int, probes: int, dead: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """The best `count` rows of the `probes` cells that are best for a question, in no order."""
    near = cells.centers @ question - cells.center_halves
    probes = min(probes, len(near))
    visited = np.argpartition(-near, probes - 1)[:probes].astype(np.int64)
    short, scale = question_code(question)
    scores, ids = np.empty(min(count, len(cells)), np.float32), np.empty(min(count, len(cells)), np.int64)
    size = scan_cells(visited, cells.begins, cells.members, cells.codes.codes, cells.codes.scales, halves, short,
                      np.float32(scale), dead, scores, ids)  # fmt: skip
    return ids[:size]


@njit(cache=True, nogil=True)
def scan_cells(
    visited: NDArray[np.int64],
    begins: NDArray[np.int64],
    members: NDArray[np.int32],
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    question: NDArray[np.int16],
    scale: np.float32,
    dead: NDArray[np.bool_],
    heap_scores: NDArray[np.float32],
    heap_ids: NDArray[np.int64],
) -> int:
    """Offer the members of the visited cells to a heap; returns its size."""
    size = 0
    for cell in visited:
        for at in range(begins[cell], begins[cell + 1]):
            row = members[at]
            score = np.float32(byte_product(codes, at, question)) * scales[at] * scale
            if halves.size:
                score -= halves[row]
            if (size < heap_scores.size or score >= heap_scores[0]) and not (dead.size and dead[row]):
                size = offer(heap_scores, heap_ids, size, score, np.int64(row))
    return size
