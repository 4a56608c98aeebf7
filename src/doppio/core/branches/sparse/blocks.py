"""Writing postings in blocks: how large each will be, and then the bytes and the bounds of it."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.packing import BLOCK, bytes_for, pack, width_of

LEVELS = 16


@njit(cache=True, nogil=True)
def block_peaks(counts, lengths_of, low, high, shortest, most):  # type: ignore[no-untyped-def]
    """Shortest length for every count of a block, into `shortest`; the largest count into `most`."""
    shortest[:] = np.int32(2147483647)
    most[0] = 0
    for at in range(low, high):
        count = counts[at]
        most[0] = max(most[0], count)
        level = min(count, LEVELS) - 1
        shortest[level] = min(shortest[level], lengths_of[at - low])


@njit(cache=True, nogil=True)
def measure_term(  # type: ignore[no-untyped-def]
    chunks,
    counts,
    low,
    high,
    lengths,
    first,
    final,
    size,
    block_last,
    block_at,
    block_bits,
    peak_begins,
    shortest,
    most,
    own,
):
    """Find the size of the blocks [first, final) of the postings [low, high); returns the bytes up to there."""
    before = -1
    for block in range(first, final):
        begin = low + (block - first) * BLOCK
        end = min(begin + BLOCK, high)
        gap = 0
        for at in range(begin, end):
            gap = max(gap, chunks[at] - before - 1)
            before = chunks[at]
            own[at - begin] = lengths[chunks[at]]
        block_peaks(counts, own, begin, end, shortest, most)
        block_last[block] = before
        block_at[block] = size
        block_bits[block, 0] = width_of(gap)
        block_bits[block, 1] = width_of(most[0] - 1)
        size += bytes_for(end - begin, width_of(gap)) + bytes_for(end - begin, width_of(most[0] - 1))
        found, least = 0, np.int32(2147483647)
        for level in range(LEVELS - 1, -1, -1):
            if shortest[level] < least:
                least = shortest[level]
                found += 1
        peak_begins[block + 1] = peak_begins[block] + found
    return size


@njit(cache=True, nogil=True)
def fill_term(  # type: ignore[no-untyped-def]
    chunks,
    counts,
    low,
    high,
    lengths,
    first,
    final,
    block_at,
    block_bits,
    peak_begins,
    data,
    peaks,
    values,
    shortest,
    most,
    own,
):
    """Write the blocks [first, final), which have been measured."""
    before = -1
    for block in range(first, final):
        begin = low + (block - first) * BLOCK
        size = min(begin + BLOCK, high) - begin
        for place in range(size):
            chunk = chunks[begin + place]
            values[place] = chunk - before - 1
            before = chunk
            own[place] = lengths[chunk]
        gap_bits, count_bits = block_bits[block, 0], block_bits[block, 1]
        pack(values, size, gap_bits, data, block_at[block])
        for place in range(size):
            values[place] = counts[begin + place] - 1
        pack(values, size, count_bits, data, block_at[block] + bytes_for(size, gap_bits))
        block_peaks(counts, own, begin, begin + size, shortest, most)
        at, least = peak_begins[block], np.int32(2147483647)
        for level in range(LEVELS - 1, -1, -1):
            if shortest[level] < least:
                least = shortest[level]
                peaks[at, 0] = most[0] if level == LEVELS - 1 else level + 1
                peaks[at, 1] = least
                at += 1


@njit(cache=True, nogil=True)
def measure_blocks(
    chunks: NDArray[np.int32],
    counts: NDArray[np.int32],
    begins: NDArray[np.int64],
    lengths: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    peak_begins: NDArray[np.int64],
) -> tuple[int, int]:
    """Find the size of every block; returns how many bytes and peaks there will be."""
    size = 0
    shortest, most, own = np.empty(LEVELS, np.int32), np.empty(1, np.int32), np.empty(BLOCK, np.int32)
    for term in range(begins.size - 1):
        size = measure_term(
            chunks, counts, begins[term], begins[term + 1], lengths, block_begins[term], block_begins[term + 1], size,
            block_last, block_at, block_bits, peak_begins, shortest, most, own,
        )  # fmt: skip
    return size, peak_begins[-1]


@njit(cache=True, nogil=True)
def fill_blocks(
    chunks: NDArray[np.int32],
    counts: NDArray[np.int32],
    begins: NDArray[np.int64],
    lengths: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    peak_begins: NDArray[np.int64],
    data: NDArray[np.uint8],
    peaks: NDArray[np.int32],
) -> None:
    """Write the blocks that have been measured."""
    values = np.empty(BLOCK, np.int64)
    shortest, most, own = np.empty(LEVELS, np.int32), np.empty(1, np.int32), np.empty(BLOCK, np.int32)
    for term in range(begins.size - 1):
        fill_term(
            chunks, counts, begins[term], begins[term + 1], lengths, block_begins[term], block_begins[term + 1],
            block_at, block_bits, peak_begins, data, peaks, values, shortest, most, own,
        )  # fmt: skip
