"""Product quantisation: a vector as a few bytes, each half of one the number of the nearest center in one part.

References
----------
.. [1] H. Jégou, M. Douze, C. Schmid, "Product Quantization for Nearest Neighbor Search", IEEE Transactions on
   Pattern Analysis and Machine Intelligence 33(1), 2011.
.. [2] T. Ge, K. He, Q. Ke, J. Sun, "Optimized Product Quantization", IEEE Transactions on Pattern Analysis and
   Machine Intelligence 36(4), 2014: the space is turned first, so that every part holds as much of the differences.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.kmeans import kmeans, nearest_center
from doppio.core.branches.dense.metric import Floats
from doppio.core.branches.dense.registers import HALF, ROWS, block_sums, packed_codes
from doppio.core.kernels.heap import offer
from doppio.core.kernels.spans import in_spans

CENTERS = 16
SAMPLE = 16_384
BATCH = 1 << 14
# What sixteen bits hold of entries of one byte.
MOST_PARTS = 256
BLOCKS_WORTH_SHARING = 1000


@dataclass(frozen=True)
class ProductCodes:
    """Codes of n rows in m parts, half a byte each.

    rotation : (d, m * w) float32, rows are turned by it before they are cut into m parts of w numbers
    centers : (m, 16, w) float32
    codes : (ceil(n / 32), m, 16) uint8, see `registers.block_sums`
    count : int, n
    """

    rotation: NDArray[np.float32]
    centers: NDArray[np.float32]
    codes: NDArray[np.uint8]
    count: int

    def __len__(self) -> int:
        return self.count


def build_products(rows: Floats, size: int, *, seed: int = 0) -> ProductCodes:
    """Quantise (n, d) float32 rows to `size` bytes each, or as many as half of d."""
    count, dimension = rows.shape
    parts = max(min(2 * size, dimension, MOST_PARTS), 1)
    width = -(-dimension // parts)
    if not count:
        nothing = np.zeros((dimension, parts * width), np.float32), np.zeros((parts, CENTERS, width), np.float32)
        return ProductCodes(*nothing, np.empty((0, parts, HALF), np.uint8), 0)
    chosen = np.sort(np.random.default_rng(seed).choice(count, min(count, SAMPLE), replace=False))
    sample = np.asarray(rows[chosen])
    rotation = balanced_rotation(sample, parts, width)
    sample = sample @ rotation
    centers = np.zeros((parts, CENTERS, width), np.float32)
    for part in range(parts):
        own = np.ascontiguousarray(sample[:, part * width : (part + 1) * width])
        found = kmeans(own, CENTERS, seed=seed + part)
        # Of fewer rows than centers the first stands in for those that lack, which no row is nearest to alone.
        centers[part] = found[np.minimum(np.arange(CENTERS), len(found) - 1)]
    packed = []
    for first in range(0, count, BATCH):
        turned = rows[first : first + BATCH] @ rotation
        codes = [nearest_center(turned[:, part * width : (part + 1) * width], centers[part]) for part in range(parts)]
        packed.append(packed_codes(np.stack(codes, axis=1).astype(np.uint8)))
    return ProductCodes(rotation, centers, np.concatenate(packed), count)


def balanced_rotation(sample: Floats, parts: int, width: int) -> NDArray[np.float32]:
    """A rotation after which no direction of a part says anything of another, and all parts differ as much:
    (d, parts * width), with columns of zeros where there are more than d.

    Notes
    -----
    The principal axes of the sample, dealt out from the largest to the part whose product of variances is the
    smallest so far; the parametric solution of Ge and others.
    """
    dimension = sample.shape[1]
    values, axes = np.linalg.eigh(sample.T.astype(np.float64) @ sample.astype(np.float64) / max(len(sample), 1))
    spreads = np.log(np.maximum(values, 1e-12 * max(float(values.max(initial=0.0)), 1e-12)))
    held: list[list[int]] = [[] for _ in range(parts)]
    sums = np.zeros(parts)
    for axis in range(dimension - 1, -1, -1):
        part = min((one for one in range(parts) if len(held[one]) < width), key=lambda one: (sums[one], one))
        held[part].append(axis)
        # Variances below one would make a part smaller with every axis: what counts is by how much it is ahead.
        sums[part] += spreads[axis] - spreads[0]
    found = np.zeros((dimension, parts * width), np.float32)
    for part, own in enumerate(held):
        found[:, part * width : part * width + len(own)] = axes[:, own]
    return found


def product_candidates(
    codes: ProductCodes, halves: NDArray[np.float32], question: Floats, count: int, dead: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """The best `count` rows for a question by the products with their centers, in no order."""
    parts, _, width = codes.centers.shape
    table = np.einsum("pkw,pw->pk", codes.centers, (question @ codes.rotation).reshape(parts, width))
    # One byte an entry: what is lost is made up for by the full vectors of more candidates than are asked for.
    table = table - table.min(axis=1, keepdims=True)
    step = max(float(table.max()) / 255, 1e-12)
    entries = np.ascontiguousarray(np.rint(table / step).astype(np.uint8))

    def best_of(span: tuple[int, int]) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        kept = min(count, (span[1] - span[0]) * ROWS)
        scores, ids = np.empty(kept, np.float32), np.empty(kept, np.int64)
        size = scan_products(*span, codes.codes, entries, np.float32(step), halves, dead, len(codes), scores, ids)
        return scores[:size], ids[:size]

    found = in_spans(len(codes.codes), best_of, BLOCKS_WORTH_SHARING)
    scores, ids = (np.concatenate([part[side] for part in found]) for side in (0, 1))
    return ids if len(ids) <= count else ids[np.lexsort((ids, -scores))[:count]]


@njit(cache=True, nogil=True)
def scan_products(
    low: int,
    high: int,
    codes: NDArray[np.uint8],
    entries: NDArray[np.uint8],
    step: np.float32,
    halves: NDArray[np.float32],
    dead: NDArray[np.bool_],
    rows: int,
    heap_scores: NDArray[np.float32],
    heap_ids: NDArray[np.int64],
) -> int:
    """Offer the rows of the blocks [low, high) to a heap; returns its size."""
    size = 0
    edge, least = np.float32(-np.inf), np.int32(-1)
    sums = np.empty(ROWS, np.uint16)
    for block in range(low, high):
        # Whole numbers tell at once whether any row of the block reaches the edge.
        if np.int32(block_sums(codes, block, entries, sums)) < least and not halves.size:
            continue
        first = block * ROWS
        for at in range(min(ROWS, rows - first)):
            score = np.float32(sums[at]) * step
            if halves.size:
                score -= halves[first + at]
            if score >= edge and not (dead.size and dead[first + at]):
                size = offer(heap_scores, heap_ids, size, score, first + at)
                if size == heap_scores.size and size > 0:
                    edge = heap_scores[0]
                    least = np.int32(edge / step) - 1
    return size
