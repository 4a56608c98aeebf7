"""Vectors in one bit a number: the sign of each, compared by counting bits that differ.

References
----------
.. [1] M. Charikar, "Similarity Estimation Techniques from Rounding Algorithms", STOC 2002: the share of bits that
   differ is the angle.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats
from doppio.core.kernels.bits import ones_in
from doppio.core.kernels.heap import offer
from doppio.core.kernels.spans import in_spans

ROWS = 1 << 14
WORD = 64


@dataclass(frozen=True)
class BitCodes:
    """Signs of rows, after the mean of all rows was taken away.

    words : (n, ceil(d / 64)) uint64, bit j of a row set where its number j is above the mean's
    mean : (d,) float32
    lengths : (n,) float32, of each row less the mean, where the longer of two is the better; or else empty
    """

    words: NDArray[np.uint64]
    mean: NDArray[np.float32]
    lengths: NDArray[np.float32] = field(default_factory=lambda: np.empty(0, np.float32))

    def __len__(self) -> int:
        return len(self.words)


def bit_codes(rows: Floats, squares: NDArray[np.float32] | None = None) -> BitCodes:
    """Signs of (n, d) float32 rows; with squared lengths their lengths too, for inner products."""
    mean = np.zeros(rows.shape[1], np.float32)
    if len(rows):
        mean = rows.mean(axis=0, dtype=np.float64).astype(np.float32)
    words = np.empty((len(rows), -(-rows.shape[1] // WORD)), np.uint64)
    lengths = np.empty(len(rows) if squares is not None and squares.size else 0, np.float32)
    for first in range(0, len(rows), ROWS):
        part = rows[first : first + ROWS] - mean
        words[first : first + ROWS] = signs(part)
        if lengths.size:
            lengths[first : first + ROWS] = np.sqrt(np.einsum("ij,ij->i", part, part))
    return BitCodes(words, mean, lengths)


def signs(rows: Floats) -> NDArray[np.uint64]:
    """Positive numbers of (n, d) rows as bits: (n, ceil(d / 64)) uint64."""
    bits = np.zeros((len(rows), -(-rows.shape[1] // WORD) * WORD), np.uint8)
    bits[:, : rows.shape[1]] = rows > 0
    return np.packbits(bits, axis=1, bitorder="little").view(np.uint64)


def bit_candidates(codes: BitCodes, question: Floats, count: int, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The `count` rows whose signs differ least from the question's, the smaller row first among equals.

    Notes
    -----
    Where lengths are kept a row's score is its length times the cosine of the angle that its bits show: with the mean
    taken away from the rows alone, that is the inner product but for what all rows have in common.
    """
    asked = signs(question[None] if codes.lengths.size else question[None] - codes.mean)[0]
    apart = np.empty(len(codes), np.uint16)
    in_spans(len(codes), lambda span: bits_apart(*span, codes.words, asked, apart))
    if codes.lengths.size:
        cosines = np.cos(np.arange(codes.words.shape[1] * WORD + 1) * (np.pi / question.size)).astype(np.float32)
        return _longest(apart, codes.lengths, cosines, min(count, len(codes)), dead)
    return fewest(apart, codes.words.shape[1] * WORD, min(count, len(codes)), dead)


@njit(cache=True, nogil=True)
def bits_apart(
    low: int, high: int, words: NDArray[np.uint64], question: NDArray[np.uint64], apart: NDArray[np.uint16]
) -> None:
    """How many bits of the rows [low, high) differ from the question's."""
    for row in range(low, high):
        apart[row] = 0
    place = 0
    # Six words of the question at a time stay in registers; the processor counts the bits of each in one step.
    while place + 5 < question.size:
        a, b, c = question[place], question[place + 1], question[place + 2]
        d, e, f = question[place + 3], question[place + 4], question[place + 5]
        for row in range(low, high):
            apart[row] += (
                ones_in(words[row, place] ^ a)
                + ones_in(words[row, place + 1] ^ b)
                + ones_in(words[row, place + 2] ^ c)
                + ones_in(words[row, place + 3] ^ d)
                + ones_in(words[row, place + 4] ^ e)
                + ones_in(words[row, place + 5] ^ f)
            )
        place += 6
    while place < question.size:
        a = question[place]
        for row in range(low, high):
            apart[row] += ones_in(words[row, place] ^ a)
        place += 1


@njit(cache=True, nogil=True)
def fewest(apart: NDArray[np.uint16], most: int, count: int, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The `count` rows with the smallest numbers, found by counting how many rows have each number."""
    held = np.zeros(most + 2, np.int64)
    for row in range(apart.size):
        if not (dead.size and dead[row]):
            held[apart[row]] += 1
    edge, below = 0, 0
    while edge < most + 1 and below + held[edge] < count:
        below += held[edge]
        edge += 1
    level = count - below
    found = np.empty(count, np.int64)
    size = 0
    for row in range(apart.size):
        if apart[row] <= edge and not (dead.size and dead[row]):
            if apart[row] == edge:
                if level == 0:
                    continue
                level -= 1
            found[size] = row
            size += 1
    return found[:size]


@njit(cache=True, nogil=True)
def _longest(apart, lengths, cosines, count, dead):  # type: ignore[no-untyped-def]
    """The `count` rows with the largest length times cosine, in no order."""
    scores, ids = np.empty(count, np.float32), np.empty(count, np.int64)
    size = 0
    for row in range(apart.size):
        score = lengths[row] * cosines[apart[row]]
        if (size < count or score >= scores[0]) and not (dead.size and dead[row]):
            size = offer(scores, ids, size, score, np.int64(row))
    return ids[:size]
