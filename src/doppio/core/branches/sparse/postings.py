"""Which chunks hold which terms, how often: an inverted index, compressed and mapped from disk.

A term's postings stand in blocks of 128. Each block keeps its last chunk, so that a search can jump over it, and
what could make a high score in it: the pairs of count and length of which no other is both more frequent and
shorter. From these the most that a block can add follows for any weighting that grows with the count and falls
with the length, so k1, b and the variant stay open until the question is asked.

References
----------
.. [1] S. Ding, T. Suel, "Faster Top-k Document Retrieval Using Block-Max Indexes", SIGIR 2011.
"""

from bisect import bisect_left, bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, fields
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.at_hand import kept
from doppio.core.branches.sparse.packing import BLOCK, bytes_for, unpack

KIND = "postings"
SAMPLED = 32
NUMBERS_KEPT = 8192


@dataclass(frozen=True)
class Postings:
    """An inverted index over n chunks and t terms, terms numbered in the order of their UTF-8 bytes.

    term_bytes, term_begins : all terms one after another, uint8, and where each begins, (t + 1,) int64
    held : (t,) int32, chunks that hold the term
    occurrences : (t,) int64, how often the term stands in all chunks together
    block_begins : (t + 1,) int64, the first block of each term
    block_last : (blocks,) int32, the last chunk of the block
    block_at : (blocks,) int64, where the block begins in `data`
    block_bits : (blocks, 2) uint8, bits of a gap and of a count
    data : (w,) uint8, gaps less one, then counts less one, of one block after another
    peak_begins : (blocks + 1,) int64, and peaks : (p, 2) int32, pairs of count and length that bound a block
    lengths : (n,) int32, terms a chunk
    """

    term_bytes: NDArray[np.uint8]
    term_begins: NDArray[np.int64]
    held: NDArray[np.int32]
    occurrences: NDArray[np.int64]
    block_begins: NDArray[np.int64]
    block_last: NDArray[np.int32]
    block_at: NDArray[np.int64]
    block_bits: NDArray[np.uint8]
    data: NDArray[np.uint8]
    peak_begins: NDArray[np.int64]
    peaks: NDArray[np.int32]
    lengths: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.lengths)

    @property
    def terms(self) -> int:
        return len(self.held)

    def term(self, number: int) -> str:
        """The term with that number."""
        return self.term_bytes[self.term_begins[number] : self.term_begins[number + 1]].tobytes().decode()

    def number(self, term: str) -> int:
        """The number of a term, or -1. Those of the last terms stay at hand: a question asks for each several times,
        and what is added to questions comes again."""
        return kept(self._numbers, term, lambda: self._found(term), NUMBERS_KEPT)

    @cached_property
    def _numbers(self) -> dict[str, int]:
        return {}

    def _found(self, term: str) -> int:
        """A binary search, first in a sample of the terms, then in its stretch."""
        wanted = term.encode()
        stretch = bisect_right(self._sample, wanted) - 1
        if stretch < 0:
            return -1
        low = stretch * SAMPLED
        begins = self.term_begins[low : low + SAMPLED + 1].tolist()
        text = self.term_bytes[begins[0] : begins[-1]].tobytes()
        first = begins[0]
        names = [text[a - first : b - first] for a, b in pairwise(begins)]
        place = bisect_left(names, wanted)
        return low + place if place < len(names) and names[place] == wanted else -1

    @cached_property
    def _sample(self) -> list[bytes]:
        """Every 32nd term."""
        places = range(0, self.terms, SAMPLED)
        return [self.term_bytes[self.term_begins[at] : self.term_begins[at + 1]].tobytes() for at in places]

    def of(self, number: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """Chunks that hold a term, rising, and how often each does; empty for -1."""
        if number < 0:
            return np.empty(0, np.int32), np.empty(0, np.int32)
        return decode_term(number, self.held, self.block_begins, self.block_last, self.block_at, self.block_bits,
                           self.data)  # fmt: skip

    def counts(self, number: int, chunks: NDArray[np.int64]) -> NDArray[np.int32]:
        """How often a term stands in some chunks; 0 for -1."""
        if number < 0:
            return np.zeros(len(chunks), np.int32)
        return counts_in(number, chunks, self.held, self.block_begins, self.block_last, self.block_at,
                         self.block_bits, self.data)  # fmt: skip

    def everything(self) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """Chunks and counts of all terms, term after term."""
        return decode_all(self.held, self.block_begins, self.block_last, self.block_at, self.block_bits, self.data)

    def arrays(self) -> dict[str, NDArray[Any]]:
        """As the arrays of an artifact."""
        return {column.name: getattr(self, column.name) for column in fields(self)}

    @classmethod
    def opened(cls, arrays: Mapping[str, NDArray[Any]]) -> "Postings":
        """From the arrays of an artifact; nothing is read before it is needed."""
        # Slices of a plain view are cheaper than those of a mapped array, and there are many.
        return cls(**{column.name: np.asarray(arrays[column.name]) for column in fields(cls)})


@njit(cache=True, nogil=True)
def decode_block(block, size, before, block_at, block_bits, data, chunks, counts):  # type: ignore[no-untyped-def]
    """Read one block of `size` postings that follows chunk `before`, into `chunks` and `counts`."""
    gap_bits, count_bits = np.int64(block_bits[block, 0]), np.int64(block_bits[block, 1])
    unpack(data, block_at[block], gap_bits, size, chunks)
    unpack(data, block_at[block] + bytes_for(size, gap_bits), count_bits, size, counts)
    last = np.int32(before)
    for place in range(size):
        last = np.int32(last + chunks[np.uint64(place)] + np.int32(1))
        chunks[np.uint64(place)] = last
    for place in range(size):
        counts[np.uint64(place)] += np.int32(1)


@njit(cache=True, nogil=True)
def decode_term(
    term: int,
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """All postings of a term."""
    # Blocks are read in pairs of numbers.
    chunks, counts = np.empty(held[term] + 1, np.int32), np.empty(held[term] + 1, np.int32)
    before, at = np.int32(-1), 0
    for block in range(block_begins[term], block_begins[term + 1]):
        size = min(BLOCK, held[term] - at)
        decode_block(block, size, before, block_at, block_bits, data, chunks[at:], counts[at:])
        before = block_last[block]
        at += size
    return chunks[: held[term]], counts[: held[term]]


@njit(cache=True, nogil=True)
def counts_in(
    term: int,
    wanted: NDArray[np.int64],
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
) -> NDArray[np.int32]:
    """How often a term stands in some chunks, given in any order; only the blocks that may hold them are read."""
    found = np.zeros(wanted.size, np.int32)
    chunks, counts = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    first, final = block_begins[term], block_begins[term + 1]
    for row in range(wanted.size):
        low, high = first, final
        while low < high:
            middle = (low + high) // 2
            if block_last[middle] < wanted[row]:
                low = middle + 1
            else:
                high = middle
        if low == final:
            continue
        size = min(BLOCK, held[term] - (low - first) * BLOCK)
        before = block_last[low - 1] if low > first else np.int32(-1)
        decode_block(low, size, before, block_at, block_bits, data, chunks, counts)
        for place in range(size):
            if chunks[place] == wanted[row]:
                found[row] = counts[place]
    return found


@njit(cache=True, nogil=True)
def decode_all(
    held: NDArray[np.int32],
    block_begins: NDArray[np.int64],
    block_last: NDArray[np.int32],
    block_at: NDArray[np.int64],
    block_bits: NDArray[np.uint8],
    data: NDArray[np.uint8],
) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """The postings of all terms, term after term."""
    total = 0
    for term in range(held.size):
        total += held[term]
    chunks, counts = np.empty(total, np.int32), np.empty(total, np.int32)
    at = 0
    for term in range(held.size):
        own, times = decode_term(term, held, block_begins, block_last, block_at, block_bits, data)
        chunks[at : at + own.size] = own
        counts[at : at + own.size] = times
        at += own.size
    return chunks, counts
