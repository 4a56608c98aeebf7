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
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, fields
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.progress import Progress, Silent
from doppio.core.sparse.packing import BLOCK, bytes_for, pack, unpack, width_of
from doppio.core.text.analysis import Analysis

KIND = "postings"
LEVELS = 16
SAMPLED = 32


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
        """The number of a term, or -1: a binary search, first in a sample of the terms, then in its stretch."""
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
        return cls(**{column.name: arrays[column.name] for column in fields(cls)})


def build_postings(
    texts: Iterable[str], count: int, analysis: Analysis, progress: Progress | None = None
) -> Postings:
    """Index `count` texts; the n-th text is chunk n."""
    progress = progress or Silent()
    progress.start("index terms", count, "chunks")
    numbers = analysis.numbering()
    lengths = np.zeros(count, np.int32)
    pieces: list[NDArray[np.int32]] = []
    for chunk, text in enumerate(texts):
        found = np.asarray(numbers(text), np.int32)
        pieces.append(found)
        lengths[chunk] = len(found)
        progress.advance(1)
    stream = np.concatenate([np.empty(0, np.int32), *pieces])
    return pack_postings(list(numbers.vocabulary), stream, lengths)


def pack_postings(vocabulary: Sequence[str], stream: NDArray[np.int32], lengths: NDArray[np.int32]) -> Postings:
    """Postings from the terms of all chunks.

    Parameters
    ----------
    vocabulary : sequence of t different str
        In any order.
    stream : (sum of lengths,) int32 array
        Positions in the vocabulary, chunk after chunk.
    lengths : (n,) int32 array
        Terms of each chunk.
    """
    encoded = [term.encode() for term in vocabulary]
    order = sorted(range(len(encoded)), key=encoded.__getitem__)
    ranks = np.empty(len(encoded), np.int32)
    ranks[order] = np.arange(len(encoded), dtype=np.int32)
    sizes = np.array([len(encoded[place]) for place in order], np.int64)
    blob = np.frombuffer(b"".join(encoded[place] for place in order), np.uint8)
    chunks, counts, begins = invert(stream, ranks, lengths)
    return _packed(blob, np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64), chunks, counts, begins, lengths)


def merge_postings(parts: Sequence[tuple[Postings, NDArray[np.int64]]], count: int) -> Postings:
    """Postings of `count` chunks from those of several segments.

    Parameters
    ----------
    parts : sequence of (Postings, (n_i,) int64 array)
        The array says which chunk each of the segment's becomes, rising; -1 drops it.

    Notes
    -----
    Equal, array for array, to what `build_postings` makes of the texts that are left.
    """
    names = sorted({part.term(number).encode() for part, _ in parts for number in range(part.terms)})
    at = {name: number for number, name in enumerate(names)}
    lengths = np.zeros(count, np.int32)
    terms, chunks, counts = [], [], []
    for part, now in parts:
        there = now >= 0
        lengths[now[there]] = part.lengths[there]
        own = np.array([at[part.term(number).encode()] for number in range(part.terms)], np.int64)
        held, times = part.everything()
        kept = there[held]
        terms.append(np.repeat(own, part.held)[kept])
        chunks.append(now[held[kept]])
        counts.append(times[kept])
    term, chunk, times = (np.concatenate([np.empty(0, np.int64), *part]) for part in (terms, chunks, counts))
    order = np.lexsort((chunk, term))
    used, begins = np.unique(term[order], return_index=True)
    kept_names = [names[number] for number in used.tolist()]
    return _packed(
        np.frombuffer(b"".join(kept_names), np.uint8),
        np.concatenate([[0], np.cumsum([len(name) for name in kept_names])]).astype(np.int64),
        chunk[order].astype(np.int32),
        times[order].astype(np.int32),
        np.append(begins, len(order)).astype(np.int64),
        lengths,
    )


def _packed(
    blob: NDArray[np.uint8],
    term_begins: NDArray[np.int64],
    chunks: NDArray[np.int32],
    counts: NDArray[np.int32],
    begins: NDArray[np.int64],
    lengths: NDArray[np.int32],
) -> Postings:
    held = np.diff(begins)
    block_begins = np.concatenate([[0], np.cumsum((held + BLOCK - 1) // BLOCK)]).astype(np.int64)
    blocks = int(block_begins[-1])
    last, places, bits = np.zeros(blocks, np.int32), np.zeros(blocks, np.int64), np.zeros((blocks, 2), np.uint8)
    peak_begins = np.zeros(blocks + 1, np.int64)
    size, peaks = measure_blocks(chunks, counts, begins, lengths, block_begins, last, places, bits, peak_begins)
    packed, pairs = np.zeros(size, np.uint8), np.zeros((peaks, 2), np.int32)
    fill_blocks(chunks, counts, begins, lengths, block_begins, places, bits, peak_begins, packed, pairs)
    sums = np.concatenate([[0], np.cumsum(counts, dtype=np.int64)])
    return Postings(blob, term_begins, held.astype(np.int32), sums[begins[1:]] - sums[begins[:-1]], block_begins,
                    last, places, bits, packed, peak_begins, pairs, lengths)  # fmt: skip


@njit(cache=True, nogil=True)
def invert(
    stream: NDArray[np.int32], ranks: NDArray[np.int32], lengths: NDArray[np.int32]
) -> tuple[NDArray[np.int32], NDArray[np.int32], NDArray[np.int64]]:
    """Sort a stream of terms by term, then chunk, and count repeats: chunks, counts, begins of the terms."""
    terms = ranks.size
    begins = np.zeros(terms + 1, np.int64)
    last = np.full(terms, -1, np.int32)
    at = 0
    for chunk in range(lengths.size):
        for _ in range(lengths[chunk]):
            term = ranks[stream[at]]
            at += 1
            if last[term] != chunk:
                last[term] = chunk
                begins[term + 1] += 1
    for term in range(terms):
        begins[term + 1] += begins[term]
    place = begins[:-1].copy()
    last[:] = -1
    chunks, counts = np.empty(begins[terms], np.int32), np.zeros(begins[terms], np.int32)
    at = 0
    for chunk in range(lengths.size):
        for _ in range(lengths[chunk]):
            term = ranks[stream[at]]
            at += 1
            if last[term] != chunk:
                last[term] = chunk
                chunks[place[term]] = chunk
                place[term] += 1
            counts[place[term] - 1] += 1
    return chunks, counts, begins


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
        before = -1
        for block in range(block_begins[term], block_begins[term + 1]):
            low = begins[term] + (block - block_begins[term]) * BLOCK
            high = min(low + BLOCK, begins[term + 1])
            gap = 0
            for at in range(low, high):
                gap = max(gap, chunks[at] - before - 1)
                before = chunks[at]
                own[at - low] = lengths[chunks[at]]
            block_peaks(counts, own, low, high, shortest, most)
            block_last[block] = before
            block_at[block] = size
            block_bits[block, 0] = width_of(gap)
            block_bits[block, 1] = width_of(most[0] - 1)
            size += bytes_for(high - low, width_of(gap)) + bytes_for(high - low, width_of(most[0] - 1))
            found, least = 0, np.int32(2147483647)
            for level in range(LEVELS - 1, -1, -1):
                if shortest[level] < least:
                    least = shortest[level]
                    found += 1
            peak_begins[block + 1] = peak_begins[block] + found
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
        before = -1
        for block in range(block_begins[term], block_begins[term + 1]):
            low = begins[term] + (block - block_begins[term]) * BLOCK
            size = min(low + BLOCK, begins[term + 1]) - low
            for place in range(size):
                chunk = chunks[low + place]
                values[place] = chunk - before - 1
                before = chunk
                own[place] = lengths[chunk]
            gap_bits, count_bits = block_bits[block, 0], block_bits[block, 1]
            pack(values, size, gap_bits, data, block_at[block])
            for place in range(size):
                values[place] = counts[low + place] - 1
            pack(values, size, count_bits, data, block_at[block] + bytes_for(size, gap_bits))
            block_peaks(counts, own, low, low + size, shortest, most)
            at, least = peak_begins[block], np.int32(2147483647)
            for level in range(LEVELS - 1, -1, -1):
                if shortest[level] < least:
                    least = shortest[level]
                    peaks[at, 0] = most[0] if level == LEVELS - 1 else level + 1
                    peaks[at, 1] = least
                    at += 1


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
