"""Scores over fields by ranges of neighbouring chunks: only ranges that can hold a hit are looked into.

A term is bounded over all its fields together, as they saturate together; apart from that a search goes as
`ranges.best_in_ranges` does.
"""

import numpy as np
from numba import njit

from doppio.core.branches.sparse.field_scan import mix_in, share_from
from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.ranges import (
    FINE,
    FIRST_READ,
    MOST_IN_PLAY,
    block_from,
    coarse_bounds,
    count_at,
    fine_ranges,
    highest_ranges,
    in_play,
    place_from,
    read_chunks,
    still_hopeful,
    write_tops,
)
from doppio.core.branches.sparse.scan import SLACK
from doppio.core.kernels.bits import trailing_zeros
from doppio.core.kernels.heap import offer


@njit(cache=True, nogil=True)
def fill_field_tops(numbers, k1, lists, chunks, fine, coarse):  # type: ignore[no-untyped-def]
    """Write the bounds of one term, given by its number in each field; see `ranges.fill_tops`."""
    mixed = np.zeros(chunks, np.float32)
    own, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    for field in range(numbers.size):
        if numbers[field] >= 0:
            mix_in(field, numbers[field], lists, own, counts, mixed)
    holding, shares, size = np.empty(chunks, np.int32), np.empty(chunks, np.float64), 0
    for chunk in range(chunks):
        if mixed[chunk] > 0:
            holding[size], shares[size] = chunk, share_from(1.0, mixed[chunk], k1)
            size += 1
    return write_tops(holding[:size], shares[:size], fine, coarse)


@njit(cache=True, nogil=True)
def scan_field_ranges(  # type: ignore[no-untyped-def]
    ranges, rows, steps, fine, floor, pair_begins, fields, numbers, weights, k1, lists, chunks, dead, now,
    heap_scores, heap_chunks, size,
):  # fmt: skip
    """Offer the best chunks of some ranges to a heap; returns the size of the heap.

    Parameters
    ----------
    ranges, rows, steps, fine, floor
        As `ranges.scan_ranges` has them, terms in the order of `steps`.
    The others are as `field_scan.scan_fields` has them.
    """
    terms, pairs, total = weights.size, fields.size, np.int64(chunks)
    slack = SLACK * (terms + 1)
    first, final = np.empty(pairs, np.int64), np.empty(pairs, np.int64)
    for p in range(pairs):
        first[p] = lists.block_begins[fields[p]][numbers[p]]
        final[p] = lists.block_begins[fields[p]][numbers[p] + 1]
    reached = first.copy()
    kept_chunks, kept_block = np.empty((pairs, BLOCK), np.int32), np.full(pairs, -1, np.int64)
    counts_at, counts_bits = np.empty(pairs, np.int64), np.empty(pairs, np.int64)
    sums, mixed, below = np.zeros(1 << FINE), np.zeros(1 << FINE, np.float32), np.empty(terms + 1)
    one = np.uint32(1)
    threshold = floor - slack
    for number in range(ranges.size):
        small = np.int64(ranges[number])
        if number > 0 and ranges[number - 1] > small:
            reached[:] = first
        if size == heap_scores.size:
            threshold = max(floor, heap_scores[0]) - slack
        below[0], needed = 0.0, 0
        for t in range(terms):
            below[t + 1] = below[t] + steps[t] * np.float64(fine[rows[t], small])
            needed += below[t + 1] < threshold
        if needed == terms:
            continue
        low = small << FINE
        high = min(low + (1 << FINE), total)
        touched = np.uint32(0)
        for t in range(terms - 1, -1, -1):
            if fine[rows[t], small] == 0:
                continue
            if t < needed:
                touched = still_hopeful(touched, sums, threshold - below[t + 1])
                if touched == 0:
                    break
            own = np.uint32(0)
            for p in range(pair_begins[t], pair_begins[t + 1]):
                field = fields[p]
                last = lists.block_last[field]
                block = block_from(last, reached[p], final[p], low)
                reached[p] = block
                while block < final[p]:
                    before = last[block - 1] if block > first[p] else np.int32(-1)
                    if before >= high - 1:
                        break
                    held = kept_chunks[p]
                    if kept_block[p] != block:
                        filled = min(BLOCK, lists.held[field][numbers[p]] - (block - first[p]) * BLOCK)
                        counts_at[p] = read_chunks(block, filled, before, lists.block_at[field],
                                                   lists.block_bits[field], lists.data[field], held)  # fmt: skip
                        counts_bits[p] = lists.block_bits[field][block, 1]
                        kept_block[p] = block
                    at = place_from(held, low) if before < low - 1 else np.uint64(0)
                    while at < BLOCK and held[at] < high:
                        spot = held[at] - low
                        bit = one << np.uint32(spot)
                        if t >= needed or touched & bit:
                            count = np.float32(count_at(lists.data[field], counts_at[p], counts_bits[p], at))
                            mixed[spot] += count * lists.pulls[field][held[at]]
                            own |= bit
                        at += np.uint64(1)
                    block += 1
            touched |= own
            while own:
                spot = np.int64(trailing_zeros(np.uint64(own)))
                own &= own - one
                sums[spot] += share_from(weights[t], mixed[spot], k1)
                mixed[spot] = 0
        while touched:
            spot = np.int64(trailing_zeros(np.uint64(touched)))
            touched &= touched - one
            score, chunk = sums[spot], low + spot
            sums[spot] = 0.0
            if score >= floor and not (dead.size and dead[chunk]):
                size = offer(heap_scores, heap_chunks, size, score, now[chunk] if now.size else chunk)
    return size


@njit(cache=True, nogil=True)
def best_in_field_ranges(  # type: ignore[no-untyped-def]
    rows, steps, fine, coarse, floor, pair_begins, fields, numbers, weights, k1, lists, chunks, dead, now,
    heap_scores, heap_chunks, size,
):  # fmt: skip
    """Offer the best chunks of a segment to a heap; returns what `ranges.best_in_ranges` does."""
    bounds = coarse_bounds(rows, steps, coarse, dead)
    first_scores, first_chunks = np.empty(heap_scores.size), np.empty(heap_scores.size, np.int64)
    given = pair_begins, fields, numbers, weights, k1, lists, chunks, dead, now
    found = scan_field_ranges(fine_ranges(highest_ranges(bounds, FIRST_READ)), rows, steps, fine, floor, *given,
                              first_scores, first_chunks, 0)  # fmt: skip
    if found == first_scores.size:
        floor = max(floor, first_scores[0])
    ranges = in_play(rows, steps, fine, bounds, floor - SLACK * (weights.size + 1))
    if ranges.size > MOST_IN_PLAY * fine.shape[1]:
        return size, floor, False
    size = scan_field_ranges(ranges, rows, steps, fine, floor, *given, heap_scores, heap_chunks, size)
    return size, floor, True
