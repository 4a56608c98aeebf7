"""Vectors in one byte a number: a quarter of the memory, so that more of them pass by in the same time."""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats
from doppio.core.kernels.heap import offer
from doppio.core.kernels.spans import in_spans

ROWS = 1 << 14
GLANCE = 256
# Twelve bits for the question: products with one byte still add up within 32 bits for 4,000 dimensions.
QUESTION_STEPS = 2047


@dataclass(frozen=True)
class ByteCodes:
    """Rows as int8 with one scale each: number = code * scale.

    codes : (n, d) int8
    scales : (n,) float32
    """

    codes: NDArray[np.int8]
    scales: NDArray[np.float32]

    def __len__(self) -> int:
        return len(self.codes)


def byte_codes(rows: Floats) -> ByteCodes:
    """Bring (n, d) float32 rows to one byte a number; the error is at most scale / 2 a number."""
    codes, scales = np.empty(rows.shape, np.int8), np.empty(len(rows), np.float32)
    for first in range(0, len(rows), ROWS):
        part = rows[first : first + ROWS]
        scales[first : first + ROWS] = np.abs(part).max(axis=1, initial=1e-9) / 127
        codes[first : first + ROWS] = np.rint(part / scales[first : first + ROWS, None])
    return ByteCodes(codes, scales)


def question_code(question: Floats) -> tuple[NDArray[np.int16], float]:
    """A question in twelve bits a number, and its scale."""
    scale = max(float(np.abs(question).max(initial=0.0)), 1e-9) / QUESTION_STEPS
    return np.rint(question / scale).astype(np.int16), scale


def byte_candidates(
    codes: ByteCodes, halves: NDArray[np.float32], question: Floats, count: int, dead: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """The best `count` rows for a question by the products of its code, in no order."""
    short, scale = question_code(question)

    def best_of(span: tuple[int, int]) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        kept = min(count, span[1] - span[0])
        scores, ids = np.empty(kept, np.float32), np.empty(kept, np.int64)
        size = scan_bytes(*span, codes.codes, codes.scales, halves, short, np.float32(scale), dead, scores, ids)
        return scores[:size], ids[:size]

    parts = in_spans(len(codes), best_of)
    scores, ids = (np.concatenate([part[side] for part in parts]) for side in (0, 1))
    return ids if len(ids) <= count else ids[np.lexsort((ids, -scores))[:count]]


@njit(cache=True, nogil=True)
def byte_product(codes, row, question):  # type: ignore[no-untyped-def]
    """Product of one row of int8 codes with an int16 question, added in int32."""
    total = np.int32(0)
    for column in range(question.size):
        # Cut back to 32 bits each time: Numba would widen to 64, and the compiler then finds no packed product.
        total = np.int32(total + np.int32(np.int32(codes[row, column]) * np.int32(question[column])))
    return total


@njit(cache=True, nogil=True)
def scan_bytes(
    low: int,
    high: int,
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    question: NDArray[np.int16],
    scale: np.float32,
    dead: NDArray[np.bool_],
    heap_scores: NDArray[np.float32],
    heap_ids: NDArray[np.int64],
) -> int:
    """Offer the rows [low, high) to a heap; returns its size."""
    size = 0
    edge = np.float32(-np.inf)
    scores = np.empty(GLANCE, np.float32)
    for first in range(low, high, GLANCE):
        # Products first, the heap after: each loop stays simple enough to run on packed numbers.
        count = min(GLANCE, high - first)
        for at in range(count):
            scores[at] = np.float32(byte_product(codes, first + at, question)) * scales[first + at] * scale
        if halves.size:
            for at in range(count):
                scores[at] -= halves[first + at]
        for at in range(count):
            row = first + at
            if scores[at] >= edge and not (dead.size and dead[row]):
                size = offer(heap_scores, heap_ids, size, scores[at], row)
                if size == heap_scores.size and size > 0:
                    edge = heap_scores[0]
    return size
