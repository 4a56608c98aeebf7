"""Vectors in one bit a number: the sign of each, compared by counting bits that differ."""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.bits import ones_in
from doppio.core.dense.codes import in_spans
from doppio.core.dense.metric import Floats

ROWS = 1 << 14
WORD = 64


@dataclass(frozen=True)
class BitCodes:
    """Signs of rows, after the mean of all rows was taken away.

    words : (n, ceil(d / 64)) uint64, bit j of a row set where its number j is above the mean's
    mean : (d,) float32
    """

    words: NDArray[np.uint64]
    mean: NDArray[np.float32]

    def __len__(self) -> int:
        return len(self.words)


def bit_codes(rows: Floats) -> BitCodes:
    """Signs of (n, d) float32 rows."""
    mean = np.zeros(rows.shape[1], np.float32)
    if len(rows):
        mean = rows.mean(axis=0, dtype=np.float64).astype(np.float32)
    words = np.empty((len(rows), -(-rows.shape[1] // WORD)), np.uint64)
    for first in range(0, len(rows), ROWS):
        words[first : first + ROWS] = signs(rows[first : first + ROWS] - mean)
    return BitCodes(words, mean)


def signs(rows: Floats) -> NDArray[np.uint64]:
    """Positive numbers of (n, d) rows as bits: (n, ceil(d / 64)) uint64."""
    bits = np.zeros((len(rows), -(-rows.shape[1] // WORD) * WORD), np.uint8)
    bits[:, : rows.shape[1]] = rows > 0
    return np.packbits(bits, axis=1, bitorder="little").view(np.uint64)


def bit_candidates(codes: BitCodes, question: Floats, count: int, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The `count` rows whose signs differ least from the question's, the smaller row first among equals."""
    asked = signs(question[None] - codes.mean)[0]
    apart = np.empty(len(codes), np.uint16)
    in_spans(len(codes), lambda span: bits_apart(*span, codes.words, asked, apart))
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
