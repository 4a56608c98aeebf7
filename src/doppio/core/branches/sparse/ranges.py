"""Bounds of a term over ranges of neighbouring chunks, and a search that looks only into ranges that can hold a hit.

Blocks of postings bound a term where it is frequent; where it is rare a block reaches over many chunks and bounds all
of them by its best. So the most that a term adds is kept once more, for every 8 chunks and for every 128, in one
byte each. What all terms of a question add at most in a range is then a plain sum, and most ranges fall under what
the best hits have.

References
----------
.. [1] C. Dimopoulos, S. Nepomnyachiy, T. Suel, "Optimizing Top-k Document Retrieval Strategies for Block-Max
   Indexes", WSDM 2013: bounds over ranges of documents, kept apart from the postings.
"""

import numpy as np
from numba import njit

from doppio.core.branches.sparse.packing import BLOCK, bytes_for, unpack
from doppio.core.branches.sparse.postings import decode_block
from doppio.core.branches.sparse.scan import SLACK
from doppio.core.branches.sparse.weighting import COMMON, MORE, logs_of, on_grid, share_of, shares_of
from doppio.core.kernels.bits import trailing_zeros
from doppio.core.kernels.heap import offer

# Chunks of a fine and of a coarse range, as powers of two, and how many fine ones make a coarse one.
FINE, COARSE = 3, 7
INSIDE = 1 << (COARSE - FINE)
# Coarse ranges that are read first, those with the highest bounds; the best hits in them are where a search begins.
FIRST_READ = 48
TILE = 256
# Where more ranges than this share stay in play, reading whole blocks is quicker than looking each range up.
MOST_IN_PLAY = 0.5
# Segments below this size are read in windows; so are questions of more terms, of which most are added ones.
LARGE, TERMS_IN_RANGES = 1 << 16, 32
# Bounds in 32 bits may be below the same in 64.
UP = np.float32(1 + 4e-6)


@njit(cache=True, nogil=True)
def fill_tops(  # type: ignore[no-untyped-def]
    number, slope, variant, k1, delta, norms, held, block_begins, block_last, block_at, block_bits, data, fine,
    coarse,
):  # fmt: skip
    """Write the bounds of one term into its rows; returns what one of the 255 steps is."""
    # Blocks are read in pairs of numbers.
    chunks, shares = np.empty(held[number] + 1, np.int32), np.empty(held[number], np.float64)
    counts, own, table = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.float32), np.empty(COMMON)
    logs_of(variant, slope, table)
    before, done = np.int32(-1), 0
    for block in range(block_begins[number], block_begins[number + 1]):
        count = min(BLOCK, held[number] - done)
        decode_block(block, count, before, block_at, block_bits, data, chunks[done:], counts)
        for at in range(count):
            own[at] = norms[chunks[done + at]]
        shares_of(variant, 1.0, slope, counts, own, count, k1, delta, table, shares[done:])
        before = block_last[block]
        done += count
    return write_tops(chunks[:done], shares, fine, coarse)


@njit(cache=True, nogil=True)
def write_tops(chunks, shares, fine, coarse):  # type: ignore[no-untyped-def]
    """Write the most that a term adds in each range, from what it adds to the chunks that hold it, as bytes; returns
    their step.

    Parameters
    ----------
    chunks : (m,) int32
    shares : (m,) float64
    """
    highest = np.float64(0.0)
    for at in range(chunks.size):
        highest = max(highest, np.float64(np.float32(shares[at])))
    scale = 255.0 / highest if highest > 0 else 0.0
    for at in range(chunks.size):
        chunk = np.uint64(chunks[at])
        byte = np.uint8(min(255.0, np.ceil(np.float64(np.float32(shares[at])) * scale)))
        fine[chunk >> np.uint64(FINE)] = max(fine[chunk >> np.uint64(FINE)], byte)
        coarse[chunk >> np.uint64(COARSE)] = max(coarse[chunk >> np.uint64(COARSE)], byte)
    return highest / 255.0 * MORE


@njit(cache=True, nogil=True)
def coarse_bounds(rows, steps, coarse, dead):  # type: ignore[no-untyped-def]
    """What all terms together add at most in each coarse range, 0 where every chunk of it is dead: float32."""
    bounds = np.zeros(coarse.shape[1], np.float32)
    for t in range(rows.size):
        step, own = np.float32(steps[t]), coarse[rows[t]]
        for place in range(bounds.size):
            bounds[np.uint64(place)] += step * np.float32(own[np.uint64(place)])
    for place in range(bounds.size):
        bounds[np.uint64(place)] *= UP
    if dead.size:
        for place in range(bounds.size):
            at, end = place << COARSE, min((place + 1) << COARSE, dead.size)
            while at < end and dead[at]:
                at += 1
            if at == end:
                bounds[place] = 0.0
    return bounds


@njit(cache=True, nogil=True)
def highest_ranges(bounds, wanted):  # type: ignore[no-untyped-def]
    """The ranges with the highest bounds, about as many as wanted, best first."""
    most = np.float32(0.0)
    for place in range(bounds.size):
        most = max(most, bounds[np.uint64(place)])
    bins = np.zeros(512, np.int64)
    scale = np.float32(511.0) / max(most, np.float32(1e-30))
    for place in range(bounds.size):
        bins[np.uint64(bounds[np.uint64(place)] * scale)] += 1
    least, found = 511, bins[511]
    while least > 1 and found < wanted:
        least -= 1
        found += bins[least]
    ranges = np.empty(found, np.int64)
    size = 0
    for place in range(bounds.size):
        if np.int64(bounds[place] * scale) >= least:
            ranges[size] = place
            size += 1
    order = np.argsort(-bounds[ranges[:size]])[: 2 * wanted]
    return ranges[:size][order]


@njit(cache=True, nogil=True)
def in_play(rows, steps, fine, bounds, least):  # type: ignore[no-untyped-def]
    """The fine ranges where all terms together may add at least so much, rising, and perhaps a few more; those of
    coarse ranges whose bound is lower are never among them.

    Notes
    -----
    Steps are rounded up to whole numbers, so that sums stand in 16 bits and many are added at a time.
    """
    total, terms = fine.shape[1], rows.size
    least = np.float32(max(least, 1e-30))
    unit = steps.sum() * 255.0 / (65535.0 - 255.0 * terms)
    wanted = np.uint16(min(max(np.floor(least / unit), 1.0), 65535.0))
    ranges, size = np.empty(total, np.int32), np.uint64(0)
    sums = np.empty(TILE, np.uint16)
    for low in range(0, total, TILE):
        width, inside = min(TILE, total - low), False
        for place in range(low // INSIDE, (low + width) // INSIDE):
            inside |= bounds[place] >= least
        if not inside:
            continue
        sums[:] = 0
        for t in range(terms):
            step, own = np.uint16(np.ceil(steps[t] / unit)), fine[rows[t], low : low + width]
            for place in range(width):
                sums[np.uint64(place)] += np.uint16(step * np.uint16(own[np.uint64(place)]))
        for first in range(0, width, INSIDE):
            if bounds[(low + first) // INSIDE] >= least:
                for place in range(first, first + INSIDE):
                    ranges[size] = low + place
                    size += np.uint64(sums[np.uint64(place)] >= wanted)
    return ranges[: np.int64(size)]


@njit(cache=True, nogil=True)
def fine_ranges(ranges):  # type: ignore[no-untyped-def]
    """The fine ranges of some coarse ones."""
    found = np.empty(ranges.size * INSIDE, np.int32)
    for place in range(found.size):
        found[place] = ranges[place // INSIDE] * INSIDE + place % INSIDE
    return found


@njit(cache=True, nogil=True)
def scan_ranges(  # type: ignore[no-untyped-def]
    ranges, rows, steps, fine, floor, numbers, weights, slopes, variant, k1, delta, norms, after, times, highest,
    held, block_begins, block_last, block_at, block_bits, data, dead, now, heap_scores, heap_chunks, size,
):  # fmt: skip
    """Offer the best chunks of some ranges to a heap; returns the size of the heap.

    Parameters
    ----------
    ranges : (r,) int32 array
        Fine ranges; looked up quickest where they rise.
    rows, steps : (terms,) array
        Where each term's bounds stand in `fine`, and what a step of them is, times the term's weight. Terms come in
        the order of `steps`, the smallest first.
    floor : float
        A chunk with less is no hit.
    The others are as `scan.scan_best` has them.

    Notes
    -----
    In a fine range the terms that together stay under the threshold are looked up only for chunks that the others
    brought up.
    """
    terms, total = numbers.size, np.int64(norms.size)
    slack = SLACK * (terms + 1)
    first, final = np.empty(terms, np.int64), np.empty(terms, np.int64)
    for t in range(terms):
        first[t], final[t] = block_begins[numbers[t]], block_begins[numbers[t] + 1]
    reached = first.copy()
    kept_chunks, kept_block = np.empty((terms, BLOCK), np.int32), np.full(terms, -1, np.int64)
    counts_at, counts_bits = np.empty(terms, np.int64), np.empty(terms, np.int64)
    sums, below = np.zeros(1 << FINE), np.empty(terms + 1)
    one = np.uint32(1)
    threshold = floor - slack
    for number in range(ranges.size):
        small = np.int64(ranges[number])
        if number > 0 and ranges[number - 1] > small:
            reached[:] = first
        if size == heap_scores.size:
            threshold = max(floor, heap_scores[0]) - slack
        below[0], needed = highest, 0
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
            block = block_from(block_last, reached[t], final[t], low)
            reached[t] = block
            while block < final[t]:
                before = block_last[block - 1] if block > first[t] else np.int32(-1)
                if before >= high - 1:
                    break
                chunks = kept_chunks[t]
                if kept_block[t] != block:
                    filled = min(BLOCK, held[numbers[t]] - (block - first[t]) * BLOCK)
                    counts_at[t] = read_chunks(block, filled, before, block_at, block_bits, data, chunks)
                    counts_bits[t] = block_bits[block, 1]
                    kept_block[t] = block
                at = place_from(chunks, low) if before < low - 1 else np.uint64(0)
                while at < BLOCK and chunks[at] < high:
                    spot = chunks[at] - low
                    bit = one << np.uint32(spot)
                    if t >= needed or touched & bit:
                        sums[spot] += share_of(
                            variant,
                            weights[t],
                            slopes[t],
                            count_at(data, counts_at[t], counts_bits[t], at),
                            norms[chunks[at]],
                            k1,
                            delta,
                        )
                        touched |= bit
                    at += np.uint64(1)
                block += 1
        while touched:
            spot = np.int64(trailing_zeros(np.uint64(touched)))
            touched &= touched - one
            score, chunk = sums[spot], low + spot
            sums[spot] = 0.0
            if after.size:
                score += on_grid(times * after[chunk])
            if score >= floor and not (dead.size and dead[chunk]):
                size = offer(heap_scores, heap_chunks, size, score, now[chunk] if now.size else chunk)
    return size


@njit(cache=True, nogil=True)
def best_in_ranges(  # type: ignore[no-untyped-def]
    rows, steps, fine, coarse, floor, numbers, weights, slopes, variant, k1, delta, norms, after, times, highest,
    held, block_begins, block_last, block_at, block_bits, data, dead, now, heap_scores, heap_chunks, size,
):  # fmt: skip
    """Offer the best chunks of a segment to a heap, unless too many ranges stay in play; see `scan_ranges`.

    Returns
    -------
    size : int
        Of the heap.
    floor : float
        A chunk with less is no hit, as the ranges with the highest bounds tell.
    done : bool
        Whether the chunks were offered.
    """
    bounds = coarse_bounds(rows, steps, coarse, dead)
    first_scores, first_chunks = np.empty(heap_scores.size), np.empty(heap_scores.size, np.int64)
    asked = numbers, weights, slopes, variant, k1, delta, norms, after, times, highest
    blocks = held, block_begins, block_last, block_at, block_bits, data, dead, now
    found = scan_ranges(fine_ranges(highest_ranges(bounds, FIRST_READ)), rows, steps, fine, floor, *asked, *blocks,
                        first_scores, first_chunks, 0)  # fmt: skip
    if found == first_scores.size:
        floor = max(floor, first_scores[0])
    ranges = in_play(rows, steps, fine, bounds, floor - highest - SLACK * (numbers.size + 1))
    if ranges.size > MOST_IN_PLAY * fine.shape[1]:
        return size, floor, False
    size = scan_ranges(ranges, rows, steps, fine, floor, *asked, *blocks, heap_scores, heap_chunks, size)
    return size, floor, True


@njit(cache=True, nogil=True, inline="always")
def read_chunks(block, filled, before, block_at, block_bits, data, chunks):  # type: ignore[no-untyped-def]
    """Read the chunks of a block of postings, with what is larger than any chunk after the last; returns where its
    counts begin."""
    gap_bits, last = np.int64(block_bits[block, 0]), np.int64(before)
    unpack(data, block_at[block], gap_bits, filled, chunks)
    for at in range(filled):
        last += np.int64(chunks[np.uint64(at)]) + 1
        chunks[np.uint64(at)] = last
    for at in range(filled, BLOCK):
        chunks[np.uint64(at)] = np.int32(2147483647)
    return block_at[block] + bytes_for(filled, gap_bits)


@njit(cache=True, nogil=True, inline="always")
def still_hopeful(touched, sums, least):  # type: ignore[no-untyped-def]
    """The touched chunks of a range that have at least so much; the sums of the others are forgotten."""
    bits, one = touched, np.uint32(1)
    while bits:
        spot = np.int64(trailing_zeros(np.uint64(bits)))
        bits &= bits - one
        if sums[spot] < least:
            sums[spot] = 0.0
            touched ^= one << np.uint32(spot)
    return touched


@njit(cache=True, nogil=True, inline="always")
def count_at(data, at, bits, place):  # type: ignore[no-untyped-def]
    """One count of a block, read where it stands."""
    if bits == 0:
        return 1.0
    if bits == 4:
        both = np.int64(data[np.uint64(at) + (place >> np.uint64(1))])
        return 1.0 + np.float64((both >> np.int64(4 * (place & np.uint64(1)))) & 15)
    found = 1.0
    size = bits // 8
    for byte in range(size):
        found += np.float64(np.int64(data[np.uint64(at) + place * np.uint64(size) + np.uint64(byte)]) << (8 * byte))
    return found


@njit(cache=True, nogil=True, inline="always")
def place_from(chunks, chunk):  # type: ignore[no-untyped-def]
    """First place of a block of 128 rising numbers that is not before a chunk, or 127: without a branch."""
    place = np.uint64(0)
    place += np.uint64(64) * np.uint64(chunks[place + np.uint64(63)] < chunk)
    place += np.uint64(32) * np.uint64(chunks[place + np.uint64(31)] < chunk)
    place += np.uint64(16) * np.uint64(chunks[place + np.uint64(15)] < chunk)
    place += np.uint64(8) * np.uint64(chunks[place + np.uint64(7)] < chunk)
    place += np.uint64(4) * np.uint64(chunks[place + np.uint64(3)] < chunk)
    place += np.uint64(2) * np.uint64(chunks[place + np.uint64(1)] < chunk)
    place += np.uint64(1) * np.uint64(chunks[place] < chunk)
    return place


@njit(cache=True, nogil=True)
def block_from(block_last, block, final, chunk):  # type: ignore[no-untyped-def]
    """First block of [block, final) whose last chunk is not before the given one, found in growing steps."""
    if block >= final or block_last[block] >= chunk:
        return block
    step = 1
    while block + step < final and block_last[block + step] < chunk:
        block += step
        step *= 2
    low, high = block + 1, min(block + step, final)
    while low < high:
        middle = (low + high) // 2
        if block_last[middle] < chunk:
            low = middle + 1
        else:
            high = middle
    return low
