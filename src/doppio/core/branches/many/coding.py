"""Vectors of tokens in few bytes: turned to fewer numbers, the cell that each lies in, and what is left in few bits.

References
----------
.. [1] K. Santhanam, O. Khattab, J. Saad-Falcon, C. Potts, M. Zaharia, "ColBERTv2: Effective and Efficient Retrieval
   via Lightweight Late Interaction", NAACL 2022: a centroid and a residual in few bits a number.
.. [2] S. Lloyd, "Least Squares Quantization in PCM", IEEE Transactions on Information Theory 28(2), 1982: levels.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.kmeans import kmeans, nearest_center
from doppio.core.branches.many.lists import CellLists, cell_lists
from doppio.core.kernels.rows import Rows, ranges
from doppio.core.models.token_vectors import Segment

NUMBERS, A_BYTE = 128, 8
MOST_CELLS = 1 << 16
SAMPLE_A_CELL, LEAST_SAMPLE = 64, 1 << 14
ROWS = 1 << 14
ROUNDS = 8

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Scale:
    """How vectors become codes; found on a sample of them.

    turn : (d, p) float32, p a multiple of 8; columns beyond the dimension are 0
    centers : (c, p) float32
    levels : (p, 2 ** bits) float32, what is left of each number, rising
    """

    turn: Floats
    centers: Floats
    levels: Floats

    @property
    def bits(self) -> int:
        return int(self.levels.shape[1]).bit_length() - 1

    @cached_property
    def by_byte(self) -> Floats:
        """What every value of every byte of a code says of its numbers: (bytes, 256, numbers a byte) float32."""
        bits, width = self.bits, len(self.levels)
        each = A_BYTE // bits
        values = np.arange(256)[:, None] >> (bits * np.arange(each)) & ((1 << bits) - 1)
        of_byte = self.levels.reshape(width // each, each, -1)
        return of_byte[:, np.arange(each), values]


@dataclass(frozen=True)
class TokenCodes:
    """The vectors of a segment's tokens as codes.

    bounds : (n + 1,) int64, the first token of each chunk
    cells : (t,) uint16, the cell of each token
    codes : (t, p * bits / 8) uint8, levels of the numbers, the first in the lowest bits
    lists : the chunks of each cell
    """

    scale: Scale
    bounds: NDArray[np.int64]
    cells: NDArray[np.uint16]
    codes: NDArray[np.uint8]
    lists: CellLists

    @property
    def bytes(self) -> int:
        """What is read when it is searched, full vectors apart."""
        own = (self.bounds, self.cells, self.codes, self.scale.centers, self.scale.levels, self.scale.turn)
        return sum(array.nbytes for array in own) + self.lists.bytes


def encode(
    segment: Segment, bits: int, cells: int, advance: Callable[[int], None] = lambda _: None, *, seed: int = 0
) -> TokenCodes:
    """Bring the vectors of a segment's tokens to codes.

    Parameters
    ----------
    bits : int
        A number: 1, 2 or 8.
    cells : int
        0 for twice the square root of the tokens.
    advance : callable
        Told how many tokens more are done.
    """
    lengths = segment.spans[:, 1]
    bounds = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    tokens = int(bounds[-1])
    wanted = min(cells or max(1, int(2 * np.sqrt(tokens))), MOST_CELLS)
    scale = _scale(segment, bounds, bits, wanted, seed)
    owner = np.empty(tokens, np.uint16)
    codes = np.empty((tokens, len(scale.levels) * bits // A_BYTE), np.uint8)
    edges = ((scale.levels[:, 1:] + scale.levels[:, :-1]) / 2).astype(np.float32)
    # Whole chunks at a time, each some thousand tokens.
    firsts = np.searchsorted(bounds, np.arange(0, tokens, ROWS), side="left")
    stops = np.unique(np.append(firsts, len(lengths)))
    for low, high in zip(np.append(0, stops[:-1]).tolist(), stops.tolist(), strict=True):
        span = slice(int(bounds[low]), int(bounds[high]))
        if span.start == span.stop:
            continue
        rows = _turned(segment, ranges(segment.spans[low:high, 0], lengths[low:high]), scale.turn)
        owner[span] = nearest_center(rows, scale.centers)
        levels_of(rows, owner[span], scale.centers, edges, bits, codes[span])
        advance(span.stop - span.start)
    return TokenCodes(scale, bounds, owner, codes, cell_lists(owner, bounds, len(scale.centers)))


def _turned(segment: Segment, tokens: Rows, turn: Floats) -> Floats:
    rows: Floats = segment.codes[tokens] * segment.scales[tokens, None]
    return rows @ turn


def _scale(segment: Segment, bounds: NDArray[np.int64], bits: int, cells: int, seed: int) -> Scale:
    dimension = segment.codes.shape[1]
    width = -(-min(dimension, NUMBERS) // A_BYTE) * A_BYTE
    tokens = int(bounds[-1])
    if not tokens:
        none = np.zeros((1, width), np.float32)
        return Scale(np.zeros((dimension, width), np.float32), none, np.zeros((width, 1 << bits), np.float32))
    size = min(tokens, max(LEAST_SAMPLE, SAMPLE_A_CELL * cells))
    chosen = np.sort(np.random.default_rng(seed).choice(tokens, size, replace=False))
    owner = np.searchsorted(bounds, chosen, side="right") - 1
    places = segment.spans[owner, 0] + chosen - bounds[owner]
    sample = segment.codes[places] * segment.scales[places, None]
    turn = _turn(sample, width)
    rows = sample @ turn
    # Directions want a larger sample than few cells do.
    some = np.linspace(0, size - 1, min(size, SAMPLE_A_CELL * cells)).astype(np.int64)
    centers = kmeans(rows[some], cells, iterations=ROUNDS, seed=seed)
    return Scale(turn, centers, _levels(rows - centers[nearest_center(rows, centers)], bits))


def _turn(rows: Floats, width: int) -> Floats:
    """The directions that keep most of the products between rows: (d, width) float32; the rest of its columns 0.

    Nothing is taken away first: it is products that are compared, not distances from a mean.
    """
    products = rows.astype(np.float64).T @ rows
    _, directions = np.linalg.eigh(products)
    kept = directions[:, ::-1][:, :width]
    # The sign of a direction is arbitrary; the largest number of each is made positive.
    kept = kept * np.sign(kept[np.abs(kept).argmax(axis=0), np.arange(kept.shape[1])])
    found = np.zeros((rows.shape[1], width), np.float32)
    found[:, : kept.shape[1]] = kept
    return found


def _levels(left: Floats, bits: int) -> Floats:
    """Levels of each number of (n, p) rows: (p, 2 ** bits), rising; those of Lloyd, from equal shares."""
    count = 1 << bits
    sample = np.sort(left[:: max(1, len(left) // (1 << 15))], axis=0).astype(np.float64)
    if bits == A_BYTE:
        return np.linspace(sample[0], sample[-1], count, axis=1).astype(np.float32)
    sums = np.vstack([np.zeros(sample.shape[1]), np.cumsum(sample, axis=0)])
    cuts = np.linspace(0, len(sample), count + 1).astype(np.int64)[:, None].repeat(sample.shape[1], 1)
    levels = np.zeros((count, sample.shape[1]))
    for _ in range(ROUNDS):
        held = np.diff(cuts, axis=0)
        means = np.diff(np.take_along_axis(sums, cuts, 0), axis=0) / np.maximum(held, 1)
        # One that holds nothing stays where it was.
        levels = np.maximum.accumulate(np.where(held > 0, means, levels), axis=0)
        edges = (levels[1:] + levels[:-1]) / 2
        for column in range(sample.shape[1]):
            cuts[1:-1, column] = np.searchsorted(sample[:, column], edges[:, column], side="right")
    return levels.T.astype(np.float32)


@njit(cache=True, nogil=True)
def levels_of(
    rows: Floats, cells: NDArray[np.uint16], centers: Floats, edges: Floats, bits: int, codes: NDArray[np.uint8]
) -> None:
    """Write the level of every number of what is left of rows, as many edges as it lies above."""
    for row in range(rows.shape[0]):
        for byte in range(codes.shape[1]):
            codes[row, byte] = 0
        for column in range(rows.shape[1]):
            left = rows[row, column] - centers[cells[row], column]
            low, high = 0, edges.shape[1]
            while low < high:
                middle = (low + high) // 2
                if left > edges[column, middle]:
                    low = middle + 1
                else:
                    high = middle
            place = column * bits
            codes[row, place // 8] |= np.uint8(low << (place % 8))
