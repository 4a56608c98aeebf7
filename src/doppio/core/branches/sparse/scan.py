"""Scores of all chunks of a segment, or only of those that can be among the best k: the compiled part of a search.

References
----------
.. [1] H. Turtle, J. Flood, "Query Evaluation: Strategies and Optimizations", Information Processing & Management
   31(6), 1995: terms that cannot lift a chunk over the threshold on their own are not read in full.
.. [2] S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", SIGIR 2011: block maxima.
"""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.postings import decode_block
from doppio.core.branches.sparse.weighting import COMMON, logs_of, on_grid, share_of, shares_of, unit_of
from doppio.core.kernels.bits import trailing_zeros
from doppio.core.kernels.heap import offer

FIRST_WINDOW, WINDOW = 1 << 11, 1 << 15
# Looking one chunk up takes about as long as reading so many postings.
LOOKUP_COST = 24
GLANCE, STRETCH = 256, 1 << 16
# A share is rounded to the grid after its division, which need not grow with the count to the last bit.
SLACK = 1e-9


@njit(cache=True, nogil=True)
def scan_all(
    numbers: NDArray[np.int64],
    weights: NDArray[np.float64],
    slopes: NDArray[np.float64],
    variant: int,
    k1: float,
    delta: float,
    norms: NDArray[np.float32],
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
    scores: NDArray[np.float64],
) -> None:
    """Add the shares of the terms to the scores of all chunks.

    Notes
    -----
    Stretch by stretch of the chunks, so that their scores and norms stay near the processor for all terms.
    """
    terms = numbers.size
    chunks, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    own, shares, tables = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float64), np.empty((terms, COMMON))
    reached, left, before = np.empty(terms, np.int64), np.empty(terms, np.int64), np.full(terms, -1, np.int32)
    for t in range(terms):
        logs_of(variant, slopes[t], tables[t])
        reached[t], left[t] = block_begins[numbers[t]], held[numbers[t]]
    for high in range(STRETCH, scores.size + STRETCH, STRETCH):
        for t in range(terms):
            weight, slope, table, final = weights[t], slopes[t], tables[t], block_begins[numbers[t] + 1]
            # A block that begins in this stretch is read here, whatever of it lies beyond.
            while reached[t] < final and before[t] < high - 1:
                block, size = reached[t], min(BLOCK, left[t])
                decode_block(block, size, before[t], block_at, block_bits, data, chunks, counts)
                for at in range(size):
                    own[np.uint64(at)] = norms[np.uint32(chunks[np.uint64(at)])]
                shares_of(variant, weight, slope, counts, own, size, k1, delta, table, shares)
                for at in range(size):
                    scores[np.uint32(chunks[np.uint64(at)])] += shares[np.uint64(at)]
                before[t] = block_last[block]
                left[t] -= size
                reached[t] += 1


@njit(cache=True, nogil=True)
def scan_best(
    numbers: NDArray[np.int64],
    weights: NDArray[np.float64],
    slopes: NDArray[np.float64],
    variant: int,
    k1: float,
    delta: float,
    norms: NDArray[np.float32],
    after: NDArray[np.float64],
    times: float,
    highest: float,
    floor: float,
    units: NDArray[np.float64],
    unit_begins: NDArray[np.int64],
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
    dead: NDArray[np.bool_],
    now: NDArray[np.int64],
    heap_scores: NDArray[np.float64],
    heap_chunks: NDArray[np.int64],
    size: int,
) -> int:
    """Offer the best chunks of a segment to a heap; returns the size of the heap.

    Parameters
    ----------
    norms : (chunks,) float32 array
        What `Weighting.norms` makes of every chunk's length; for "tf-idf" 1 / the length of its vector.
    after : (chunks,) float64 array, or empty
        Added `times` times to the score of each chunk that holds a term; never positive.
    highest : float
        The most that this adds to any chunk.
    floor : float
        A chunk with less is known to be no hit; -inf where nothing is known.
    units : float64 array
        What a term of weight 1 adds at most in its n-th block is at `unit_begins[term] + n`.
    dead : (chunks,) bool array, or empty
    now : (chunks,) int64 array, or empty
        The chunks' numbers in the whole index.

    Notes
    -----
    Chunks are looked at in windows, small ones first, while the threshold rises. In each window the terms are put in
    the order of the most they can add there. Those which together stay below the threshold cannot bring a chunk into
    the heap; they are looked up only for chunks that the others brought up, and only where their block could make
    the difference. A block of the others whose own bound is too low is not read either: its chunks then miss a
    share, but could not have entered with it.
    """
    terms, total = numbers.size, np.int64(norms.size)
    highest += SLACK
    first, final = np.empty(terms, np.int64), np.empty(terms, np.int64)
    for t in range(terms):
        first[t], final[t] = block_begins[numbers[t]], block_begins[numbers[t] + 1]
    begun, looked = first.copy(), first.copy()
    order, bound, below = np.arange(terms), np.empty(terms, np.float64), np.empty(terms + 1, np.float64)
    tops, reached = np.empty(terms, np.float64), np.zeros(terms, np.int64)
    sums, touched = np.zeros(WINDOW, np.float64), np.zeros(WINDOW // 64, np.uint64)
    own_norms, shares = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float64)
    tables = np.empty((terms, COMMON), np.float64)
    for t in range(terms):
        logs_of(variant, slopes[t], tables[t])
    kept_chunks, kept_counts = np.empty((terms, BLOCK), np.int32), np.empty((terms, BLOCK), np.int32)
    kept_block, kept_size = np.full(terms, -1, np.int64), np.zeros(terms, np.int64)
    one = np.uint64(1)
    low, width = 0, FIRST_WINDOW
    while low < total:
        high = min(low + width, total)
        width = min(2 * width, WINDOW)
        threshold = (max(floor, heap_scores[0]) if size == heap_scores.size else floor) - SLACK
        ceiling = 0.0
        for t in range(terms):
            while begun[t] < final[t] and block_last[begun[t]] < low:
                begun[t] += 1
            looked[t] = begun[t]
            top, block = 0.0, begun[t]
            from_unit = unit_begins[t] - first[t]
            while block < final[t]:
                top = max(top, units[from_unit + block])
                if block_last[block] >= high - 1:
                    break
                block += 1
            reached[t] = block - begun[t] + 1
            bound[t] = weights[t] * top + SLACK
            ceiling += bound[t]
        if ceiling + highest < threshold:
            low = high
            continue
        for t in range(1, terms):
            moved = order[t]
            at = t
            while at > 0 and bound[order[at - 1]] > bound[moved]:
                order[at] = order[at - 1]
                at -= 1
            order[at] = moved
        below[0] = 0.0
        needed = 0
        for t in range(terms):
            below[t + 1] = below[t] + bound[order[t]]
            if below[t + 1] + highest < threshold:
                needed = t + 1
        for place in range(needed, terms):
            t = order[place]
            others = ceiling - bound[t] + highest
            _add_blocks(
                t, numbers[t], begun[t], first[t], final[t], low, high, weights[t], slopes[t], threshold - others,
                units, unit_begins[t] - first[t], True, variant, k1, delta, norms, tables[t], held, block_last,
                block_at, block_bits, data, kept_chunks, kept_counts, kept_block, kept_size, own_norms, shares, sums,
                touched,
            )  # fmt: skip
        while needed > 0:
            # Reading a list whole costs less than looking up many chunks in it.
            hopeful = drop_hopeless(touched, sums, threshold - below[needed] - highest)
            t = order[needed - 1]
            if hopeful * LOOKUP_COST <= reached[t] * BLOCK:
                break
            _add_blocks(
                t, numbers[t], begun[t], first[t], final[t], low, high, weights[t], slopes[t], -np.inf,
                units, unit_begins[t] - first[t], False, variant, k1, delta, norms, tables[t], held, block_last,
                block_at, block_bits, data, kept_chunks, kept_counts, kept_block, kept_size, own_norms, shares, sums,
                touched,
            )  # fmt: skip
            needed -= 1
        for word in range((high - low + 63) >> 6):
            bits = touched[word]
            touched[word] = 0
            while bits:
                at = word * 64 + np.int64(trailing_zeros(bits))
                bits &= bits - one
                score = sums[at]
                sums[at] = 0.0
                chunk = low + at
                if size == heap_scores.size:
                    threshold = max(floor, heap_scores[0]) - SLACK
                lift = on_grid(times * after[chunk]) if after.size else 0.0
                if score + lift + below[needed] < threshold or (dead.size and dead[chunk]):
                    continue
                rest = 0.0
                for place in range(needed):
                    t = order[place]
                    while looked[t] < final[t] and block_last[looked[t]] < chunk:
                        looked[t] += 1
                    tops[t] = 0.0
                    if looked[t] < final[t] and (looked[t] == first[t] or block_last[looked[t] - 1] < chunk):
                        tops[t] = weights[t] * units[unit_begins[t] + looked[t] - first[t]] + SLACK
                    rest += tops[t]
                for place in range(needed - 1, -1, -1):
                    t = order[place]
                    if score + lift + rest < threshold:
                        break
                    if tops[t] == 0.0:
                        continue
                    rest -= tops[t]
                    block = looked[t]
                    if kept_block[t] != block:
                        own = min(BLOCK, held[numbers[t]] - (block - first[t]) * BLOCK)
                        before = block_last[block - 1] if block > first[t] else np.int32(-1)
                        decode_block(block, own, before, block_at, block_bits, data, kept_chunks[t], kept_counts[t])
                        kept_block[t], kept_size[t] = block, own
                    found = first_from(kept_chunks[t], 0, kept_size[t], chunk)
                    if found < kept_size[t] and kept_chunks[t, found] == chunk:
                        count = np.float64(kept_counts[t, found])
                        score += share_of(variant, weights[t], slopes[t], count, norms[chunk], k1, delta)
                if score + lift + max(rest, 0.0) >= threshold:
                    number = now[chunk] if now.size else chunk
                    size = offer(heap_scores, heap_chunks, size, score + lift, number)
        low = high
    return size


@njit(cache=True, nogil=True)
def _add_blocks(
    t, number, block, first, final, low, high, weight, slope, least, units, from_unit, new, variant, k1, delta, norms,
    table, held, block_last, block_at, block_bits, data, kept_chunks, kept_counts, kept_block, kept_size, own_norms,
    shares, sums, touched,
):  # type: ignore[no-untyped-def]  # fmt: skip
    """Add a term's shares to the chunks of a window, from its first block there on.

    least : a block that adds less than this at most is not read
    new : whether chunks that no other term has touched count as well
    """
    one = np.uint64(1)
    chunks, counts = kept_chunks[t], kept_counts[t]
    while block < final:
        before = block_last[block - 1] if block > first else np.int32(-1)
        if before >= high - 1:
            break
        if weight * units[from_unit + block] >= least:
            if kept_block[t] != block:
                size = min(BLOCK, held[number] - (block - first) * BLOCK)
                decode_block(block, size, before, block_at, block_bits, data, chunks, counts)
                kept_block[t], kept_size[t] = block, size
            size = kept_size[t]
            left, right = 0, size
            if before < low - 1:
                left = first_from(chunks, 0, size, low)
            if block_last[block] >= high:
                right = first_from(chunks, left, size, high)
            for at in range(right):
                own_norms[np.uint64(at)] = norms[np.uint32(chunks[np.uint64(at)])]
            shares_of(variant, weight, slope, counts, own_norms, right, k1, delta, table, shares)
            if new:
                for at in range(left, right):
                    chunk = chunks[at] - low
                    sums[chunk] += shares[at]
                    touched[chunk >> 6] |= one << np.uint64(chunk & 63)
            else:
                for at in range(left, right):
                    chunk = chunks[at] - low
                    if touched[chunk >> 6] & (one << np.uint64(chunk & 63)):
                        sums[chunk] += shares[at]
        block += 1


@njit(cache=True, nogil=True)
def drop_hopeless(touched, sums, least):  # type: ignore[no-untyped-def]
    """Forget the touched chunks that have less than `least`; returns how many are left."""
    one, left = np.uint64(1), 0
    for word in range(touched.size):
        bits = touched[word]
        while bits:
            at = word * 64 + np.int64(trailing_zeros(bits))
            low_bit = bits & (~bits + one)
            bits ^= low_bit
            if sums[at] < least:
                sums[at] = 0.0
                touched[word] ^= low_bit
            else:
                left += 1
    return left


@njit(cache=True, nogil=True)
def first_from(chunks, left, right, chunk):  # type: ignore[no-untyped-def]
    """First place of [left, right) whose chunk is not before the given one, or `right`."""
    while left < right:
        middle = (left + right) // 2
        if chunks[middle] < chunk:
            left = middle + 1
        else:
            right = middle
    return left


@njit(cache=True, nogil=True)
def offer_all(
    scores: NDArray[np.float64],
    after: NDArray[np.float64],
    times: float,
    dead: NDArray[np.bool_],
    now: NDArray[np.int64],
    heap_scores: NDArray[np.float64],
    heap_chunks: NDArray[np.int64],
    size: int,
) -> int:
    """Offer every chunk with a score to a heap; returns its size. All scores are 0 afterwards."""
    for first in range(0, scores.size, GLANCE):
        last = min(first + GLANCE, scores.size)
        most = 0.0
        for chunk in range(first, last):
            most = max(most, scores[np.uint64(chunk)])
        # Nothing that is added to a score lifts it.
        if most > 0.0 and (size < heap_scores.size or most >= heap_scores[0]):
            for chunk in range(first, last):
                if scores[chunk] > 0.0 and not (dead.size and dead[chunk]):
                    score = scores[chunk] + (on_grid(times * after[chunk]) if after.size else 0.0)
                    if size < heap_scores.size or score >= heap_scores[0]:
                        number = now[chunk] if now.size else np.int64(chunk)
                        size = offer(heap_scores, heap_chunks, size, score, number)
        if most > 0.0:
            for chunk in range(first, last):
                scores[np.uint64(chunk)] = 0.0
    return size


@njit(cache=True, nogil=True)
def vector_units(
    norms: NDArray[np.float32],
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
) -> NDArray[np.float64]:
    """What a term of weight 1 adds at most in each block by "tf-idf", where norms do not hang on lengths."""
    most = np.zeros(block_last.size, np.float64)
    chunks, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    for term in range(held.size):
        before, left = np.int32(-1), held[term]
        for block in range(block_begins[term], block_begins[term + 1]):
            size = min(BLOCK, left)
            decode_block(block, size, before, block_at, block_bits, data, chunks, counts)
            for at in range(size):
                norm = np.float64(norms[chunks[at]])
                most[block] = max(most[block], unit_of(4, 0.0, np.float64(counts[at]), norm, 0.0, 0.0))
            before = block_last[block]
            left -= size
    return most
