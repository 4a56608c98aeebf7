"""Product quantisation: a vector as a few bytes, each the number of the nearest center in one part of the space.

References
----------
.. [1] H. Jégou, M. Douze, C. Schmid, "Product Quantization for Nearest Neighbor Search", IEEE Transactions on
   Pattern Analysis and Machine Intelligence 33(1), 2011.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.dense.kmeans import kmeans, nearest_center
from doppio.core.dense.metric import Floats
from doppio.core.heap import offer

CENTERS = 256
SAMPLE = 16_384


@dataclass(frozen=True)
class ProductCodes:
    """Codes of n rows in m parts.

    centers : (m, k, d / m) float32, at most 256 of them a part
    codes : (n, m) uint8
    """

    centers: NDArray[np.float32]
    codes: NDArray[np.uint8]

    def __len__(self) -> int:
        return len(self.codes)


def parts_of(dimension: int, wanted: int) -> int:
    """The number of parts nearest below `wanted` that cuts a dimension evenly."""
    return next(parts for parts in range(min(wanted, dimension), 0, -1) if dimension % parts == 0)


def build_products(rows: Floats, parts: int, *, seed: int = 0) -> ProductCodes:
    """Quantise (n, d) float32 rows in `parts` parts; d must be a multiple of it."""
    count, dimension = rows.shape
    width = dimension // parts
    if not count:
        return ProductCodes(np.zeros((parts, 1, width), np.float32), np.empty((0, parts), np.uint8))
    chosen = np.sort(np.random.default_rng(seed).choice(count, min(count, SAMPLE), replace=False))
    sample = np.asarray(rows[chosen])
    centers = np.zeros((parts, min(CENTERS, len(sample)), width), np.float32)
    codes = np.empty((count, parts), np.uint8)
    for part in range(parts):
        columns = slice(part * width, (part + 1) * width)
        centers[part] = kmeans(np.ascontiguousarray(sample[:, columns]), centers.shape[1], seed=seed + part)
        codes[:, part] = nearest_center(rows[:, columns], centers[part])
    return ProductCodes(centers, codes)


def product_candidates(
    codes: ProductCodes, halves: NDArray[np.float32], question: Floats, count: int, dead: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """The best `count` rows for a question by the products with their centers, in no order."""
    parts, _, width = codes.centers.shape
    table = np.zeros((parts, CENTERS), np.float32)
    table[:, : codes.centers.shape[1]] = np.einsum("pkw,pw->pk", codes.centers, question.reshape(parts, width))
    scores, ids = np.empty(min(count, len(codes)), np.float32), np.empty(min(count, len(codes)), np.int64)
    size = scan_products(codes.codes, table, halves, dead, scores, ids)
    return ids[:size]


@njit(cache=True, nogil=True)
def scan_products(
    codes: NDArray[np.uint8],
    table: NDArray[np.float32],
    halves: NDArray[np.float32],
    dead: NDArray[np.bool_],
    heap_scores: NDArray[np.float32],
    heap_ids: NDArray[np.int64],
) -> int:
    """Offer all rows to a heap; returns its size."""
    size = 0
    parts = table.shape[0]
    for row in range(codes.shape[0]):
        score = np.float32(0.0)
        for part in range(parts):
            score += table[part, codes[row, part]]
        if halves.size:
            score -= halves[row]
        if (size < heap_scores.size or score >= heap_scores[0]) and not (dead.size and dead[row]):
            size = offer(heap_scores, heap_ids, size, score, row)
    return size
