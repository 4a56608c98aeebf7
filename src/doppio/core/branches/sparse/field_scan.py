"""Scores over fields, of all chunks of a segment or only of those that can be among the best: the compiled part.

A term's counts in all fields are added up before they saturate, so that its bound in a window or at a chunk is what
the bounds of its fields make together. Apart from that a search goes as `scan.scan_best` does.

References
----------
.. [1] H. Turtle, J. Flood, "Query Evaluation: Strategies and Optimizations", Information Processing & Management
   31(6), 1995.
.. [2] S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", SIGIR 2011.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.postings import decode_block
from doppio.core.branches.sparse.scan import FIRST_WINDOW, LOOKUP_COST, SLACK, WINDOW, drop_hopeless, first_from
from doppio.core.branches.sparse.weighting import MORE, on_grid
from doppio.core.kernels.bits import ones_in, trailing_zeros
from doppio.core.kernels.heap import offer

MOST_FIELDS = 3


class Lists(NamedTuple):
    """Columns of the postings of a segment's fields, always three of each; the last stands for those there are not.

    units : per block, the most that it adds to a term's weighted count
    pulls : per chunk float32, the field's weight over the norm of the chunk's length
    """

    held: tuple[NDArray[np.int32], ...]
    block_begins: tuple[NDArray[np.int64], ...]
    block_last: tuple[NDArray[np.int32], ...]
    block_at: tuple[NDArray[np.int64], ...]
    block_bits: tuple[NDArray[np.uint8], ...]
    data: tuple[NDArray[np.uint8], ...]
    units: tuple[NDArray[np.float64], ...]
    pulls: tuple[NDArray[np.float32], ...]


@njit(cache=True, nogil=True)
def field_units(peak_begins, peaks, weight, base, rise):  # type: ignore[no-untyped-def]
    """The most that each block adds to a term's weighted count, and a little more."""
    most = np.zeros(peak_begins.size - 1, np.float64)
    for block in range(most.size):
        for at in range(peak_begins[block], peak_begins[block + 1]):
            most[block] = max(most[block], peaks[at, 0] * weight / (base + rise * peaks[at, 1]))
    return most * MORE


@njit(cache=True, nogil=True)
def share_from(weight, mixed, k1):  # type: ignore[no-untyped-def]
    """What a term adds to a chunk that holds it `mixed` times over all fields; on the grid."""
    held = np.float32(mixed)
    return on_grid(np.float64(np.float32(weight) * (held * np.float32(k1 + 1.0) / (held + np.float32(k1)))))


@njit(cache=True, nogil=True)
def _most(weight, mixed, k1):  # type: ignore[no-untyped-def]
    """A bound of the same, from a bound of the weighted count."""
    return weight * (mixed * (k1 + 1.0) / (mixed + k1)) * MORE + SLACK if mixed > 0.0 else 0.0


@njit(cache=True, nogil=True)
def held_in_any(numbers, lists, dead, chunks):  # type: ignore[no-untyped-def]
    """How many chunks hold a term in any field; `numbers` are the term's by field, -1 where it has none."""
    seen = np.zeros((chunks + 63) // 64, np.uint64)
    own, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    one = np.uint64(1)
    for field in range(numbers.size):
        term = numbers[field]
        if term < 0:
            continue
        before, left = np.int32(-1), lists.held[field][term]
        for block in range(lists.block_begins[field][term], lists.block_begins[field][term + 1]):
            size = min(BLOCK, left)
            decode_block(block, size, before, lists.block_at[field], lists.block_bits[field], lists.data[field], own,
                         counts)  # fmt: skip
            for at in range(size):
                here = np.uint32(own[np.uint64(at)])
                seen[here >> np.uint32(6)] |= one << np.uint64(here & np.uint32(63))
            before = lists.block_last[field][block]
            left -= size
    for chunk in range(dead.size):
        if dead[chunk]:
            seen[chunk >> 6] &= ~(one << np.uint64(chunk & 63))
    found = np.int64(0)
    for word in range(seen.size):
        found += np.int64(ones_in(seen[word]))
    return found


@njit(cache=True, nogil=True)
def mix_in(field, term, lists, own, counts, mixed):  # type: ignore[no-untyped-def]
    """Add the weighted counts of a term in a field to those of all chunks; `own`, `counts`: room for a block."""
    before, left = np.int32(-1), lists.held[field][term]
    for block in range(lists.block_begins[field][term], lists.block_begins[field][term + 1]):
        size = min(BLOCK, left)
        decode_block(block, size, before, lists.block_at[field], lists.block_bits[field], lists.data[field], own,
                     counts)  # fmt: skip
        for at in range(size):
            mixed[own[at]] += np.float32(counts[at]) * lists.pulls[field][own[at]]
        before = lists.block_last[field][block]
        left -= size


@njit(cache=True, nogil=True)
def scan_fields_all(pair_begins, fields, numbers, weights, k1, lists, scores):  # type: ignore[no-untyped-def]
    """Add the shares of the terms to the scores of all chunks; see `scan_fields` for what is given."""
    own, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    mixed = np.zeros(scores.size, np.float32)
    for t in range(weights.size):
        for p in range(pair_begins[t], pair_begins[t + 1]):
            mix_in(fields[p], numbers[p], lists, own, counts, mixed)
        for chunk in range(scores.size):
            if mixed[chunk] > 0:
                scores[chunk] += share_from(weights[t], mixed[chunk], k1)
                mixed[chunk] = 0


@njit(cache=True, nogil=True)
def scan_fields(  # type: ignore[no-untyped-def]
    pair_begins, fields, numbers, weights, k1, lists, chunks, floor, dead, now, heap_scores, heap_chunks, size
):
    """Offer the best chunks of a segment to a heap; returns the size of the heap.

    Parameters
    ----------
    pair_begins : (terms + 1,) int64 array
        The term's lists are these pairs of field and number, in the order of the fields.
    fields, numbers : (pairs,) int64 array
    weights : (terms,) float64 array
        Repeats in the question times idf.
    k1 : float
    lists : Lists
    chunks : int
        Of the segment.
    floor : float
        A chunk with less is known to be no hit; -inf where nothing is known.
    dead : (chunks,) bool array, or empty
    now : (chunks,) int64 array, or empty
        The chunks' numbers in the whole index.
    """
    terms, pairs, total = weights.size, fields.size, np.int64(chunks)
    first, final = np.empty(pairs, np.int64), np.empty(pairs, np.int64)
    for p in range(pairs):
        first[p] = lists.block_begins[fields[p]][numbers[p]]
        final[p] = lists.block_begins[fields[p]][numbers[p] + 1]
    begun, looked = first.copy(), first.copy()
    order, bound, below = np.arange(terms), np.empty(terms, np.float64), np.empty(terms + 1, np.float64)
    peak, top, rests = np.empty(terms, np.float64), np.empty(pairs, np.float64), np.empty(terms, np.float64)
    reached = np.zeros(terms, np.int64)
    sums, mixed = np.zeros(WINDOW, np.float64), np.zeros(WINDOW, np.float32)
    touched, own = np.zeros(WINDOW // 64, np.uint64), np.zeros(WINDOW // 64, np.uint64)
    kept_chunks, kept_counts = np.empty((pairs, BLOCK), np.int32), np.empty((pairs, BLOCK), np.int32)
    kept_block, kept_size = np.full(pairs, -1, np.int64), np.zeros(pairs, np.int64)
    one = np.uint64(1)
    low, width = np.int64(0), FIRST_WINDOW
    while low < total:
        high = min(low + np.int64(width), total)
        width = min(2 * width, WINDOW)
        threshold = (max(floor, heap_scores[0]) if size == heap_scores.size else floor) - SLACK
        ceiling = 0.0
        for t in range(terms):
            peak[t], reached[t] = 0.0, 0
            for p in range(pair_begins[t], pair_begins[t + 1]):
                last = lists.block_last[fields[p]]
                while begun[p] < final[p] and last[begun[p]] < low:
                    begun[p] += 1
                looked[p] = begun[p]
                top[p], block = 0.0, begun[p]
                while block < final[p]:
                    top[p] = max(top[p], lists.units[fields[p]][block])
                    if last[block] >= high - 1:
                        break
                    block += 1
                reached[t] += block - begun[p] + 1
                peak[t] += top[p]
            bound[t] = _most(weights[t], peak[t], k1)
            ceiling += bound[t]
        if ceiling < threshold:
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
            if below[t + 1] < threshold:
                needed = t + 1
        for place in range(needed, terms):
            t = order[place]
            _mix(pair_begins[t], pair_begins[t + 1], fields, numbers, begun, first, final, low, high, weights[t], k1,
                 peak[t], top, threshold - (ceiling - bound[t]), True, lists, kept_chunks, kept_counts, kept_block,
                 kept_size, mixed, touched, own)  # fmt: skip
            _saturate(weights[t], k1, (high - low + 63) >> 6, mixed, own, sums, touched)
        while needed > 0:
            hopeful = drop_hopeless(touched, sums, threshold - below[needed])
            t = order[needed - 1]
            if hopeful * LOOKUP_COST <= reached[t] * BLOCK:
                break
            _mix(pair_begins[t], pair_begins[t + 1], fields, numbers, begun, first, final, low, high, weights[t], k1,
                 peak[t], top, -np.inf, False, lists, kept_chunks, kept_counts, kept_block, kept_size, mixed, touched,
                 own)  # fmt: skip
            _saturate(weights[t], k1, (high - low + 63) >> 6, mixed, own, sums, touched)
            needed -= 1
        for word in range((high - low + 63) >> 6):
            bits = touched[word]
            touched[word] = 0
            while bits:
                spot = word * 64 + np.int64(trailing_zeros(bits))
                bits &= bits - one
                score = sums[spot]
                sums[spot] = 0.0
                chunk = low + spot
                if size == heap_scores.size:
                    threshold = max(floor, heap_scores[0]) - SLACK
                if score + below[needed] < threshold or (dead.size and dead[chunk]):
                    continue
                rest = 0.0
                for place in range(needed):
                    t = order[place]
                    most = 0.0
                    for p in range(pair_begins[t], pair_begins[t + 1]):
                        last = lists.block_last[fields[p]]
                        while looked[p] < final[p] and last[looked[p]] < chunk:
                            looked[p] += 1
                        if looked[p] < final[p]:
                            most += lists.units[fields[p]][looked[p]]
                    rests[t] = _most(weights[t], most, k1)
                    rest += rests[t]
                for place in range(needed - 1, -1, -1):
                    t = order[place]
                    if score + rest < threshold:
                        break
                    if rests[t] == 0.0:
                        continue
                    rest -= rests[t]
                    times = np.float32(0.0)
                    for p in range(pair_begins[t], pair_begins[t + 1]):
                        if looked[p] < final[p]:
                            _keep(p, looked[p], fields[p], numbers[p], first, lists, kept_chunks, kept_counts,
                                  kept_block, kept_size)  # fmt: skip
                            found = first_from(kept_chunks[p], 0, kept_size[p], chunk)
                            if found < kept_size[p] and kept_chunks[p, found] == chunk:
                                times += np.float32(kept_counts[p, found]) * lists.pulls[fields[p]][chunk]
                    if times > 0:
                        score += share_from(weights[t], times, k1)
                if score > 0.0 and score + max(rest, 0.0) >= threshold:
                    size = offer(heap_scores, heap_chunks, size, score, now[chunk] if now.size else np.int64(chunk))
        low = high
    return size


@njit(cache=True, nogil=True)
def _keep(p, block, field, number, first, lists, kept_chunks, kept_counts, kept_block, kept_size):  # type: ignore[no-untyped-def]
    """Read a block of a pair, unless it was the last that was read."""
    if kept_block[p] == block:
        return
    size = min(BLOCK, lists.held[field][number] - (block - first[p]) * BLOCK)
    before = lists.block_last[field][block - 1] if block > first[p] else np.int32(-1)
    decode_block(block, size, before, lists.block_at[field], lists.block_bits[field], lists.data[field],
                 kept_chunks[p], kept_counts[p])  # fmt: skip
    kept_block[p], kept_size[p] = block, size


@njit(cache=True, nogil=True)
def _mix(  # type: ignore[no-untyped-def]
    first_pair, final_pair, fields, numbers, begun, first, final, low, high, weight, k1, peak, top, least, new, lists,
    kept_chunks, kept_counts, kept_block, kept_size, mixed, touched, own,
):  # fmt: skip
    """Add a term's weighted counts in the chunks of a window, field by field.

    least : a block that with all other fields adds less than this at most is not read
    new : whether chunks that no other term has touched count as well
    """
    one = np.uint64(1)
    for p in range(first_pair, final_pair):
        field, last = fields[p], lists.block_last[fields[p]]
        block = begun[p]
        while block < final[p]:
            before = last[block - 1] if block > first[p] else np.int32(-1)
            if before >= high - 1:
                break
            if _most(weight, lists.units[field][block] + peak - top[p], k1) >= least:
                _keep(p, block, field, numbers[p], first, lists, kept_chunks, kept_counts, kept_block, kept_size)
                chunks, counts = kept_chunks[p], kept_counts[p]
                left, right = 0, kept_size[p]
                if before < low - 1:
                    left = first_from(chunks, 0, right, low)
                if last[block] >= high:
                    right = first_from(chunks, left, right, high)
                for at in range(left, right):
                    place = chunks[at] - low
                    bit = one << np.uint64(place & 63)
                    if new or touched[place >> 6] & bit:
                        mixed[place] += np.float32(counts[at]) * lists.pulls[field][chunks[at]]
                        own[place >> 6] |= bit
            block += 1


@njit(cache=True, nogil=True)
def _saturate(weight, k1, words, mixed, own, sums, touched):  # type: ignore[no-untyped-def]
    """Turn the weighted counts of a term into shares, and forget them."""
    one = np.uint64(1)
    for word in range(words):
        bits = own[word]
        own[word] = 0
        touched[word] |= bits
        while bits:
            at = word * 64 + np.int64(trailing_zeros(bits))
            bits &= bits - one
            sums[at] += share_from(weight, mixed[at], k1)
            mixed[at] = 0
