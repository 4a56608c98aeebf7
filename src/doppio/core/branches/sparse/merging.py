"""Postings of several segments as one: term by term, so that no more than one list stands unpacked at a time."""

import heapq
from array import array
from collections.abc import Iterator, Sequence
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.blocks import LEVELS, fill_term, measure_term
from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.postings import Postings, decode_block
from doppio.core.store.columns import Columns

TERMS_AT_ONCE = 4096
# Bytes of postings that are merged at a time, unless one term has more.
AT_ONCE = 64 << 20


class Lists(NamedTuple):
    """The lists of several indexes, numbered one index after another, and which of them make up each merged term.

    begins, order : lists of merged term t are `order[begins[t] : begins[t + 1]]`
    first_block : of each list, in the columns of blocks below
    now_base, now : chunk c of a list becomes `now[now_base[list] + c]`; -1 where it is dropped
    """

    begins: NDArray[np.int64]
    order: NDArray[np.int64]
    first_block: NDArray[np.int64]
    now_base: NDArray[np.int64]
    now: NDArray[np.int64]
    held: NDArray[np.int32]
    block_last: NDArray[np.int32]
    block_at: NDArray[np.int64]
    block_bits: NDArray[np.uint8]
    data: NDArray[np.uint8]


def merge_postings(
    parts: Sequence[tuple[Postings, NDArray[np.int64]]], count: int, scratch: Path | None = None
) -> Postings:
    """Postings of `count` chunks from those of several segments.

    Parameters
    ----------
    parts : sequence of (Postings, (n_i,) int64 array)
        The array says which chunk each of the segment's becomes, rising; -1 drops it.
    scratch : Path or None
        A folder for the result, which is then mapped from files in it; None where it is to stand in memory.

    Notes
    -----
    Equal, array for array, to what `build_postings` makes of the texts that are left. Terms are merged some at a
    time, those whose postings take about 64 MB together, so what is held beside the result is small; what is read is
    read in order, so the parts may be mapped.
    """
    lengths = np.zeros(count, np.int32)
    for part, now in parts:
        lengths[now[now >= 0]] = part.lengths[now >= 0]
    merging = _Merging([part for part, _ in parts], [now for _, now in parts], lengths)
    columns = Columns(scratch)
    at = bytes_, blocks, size, peaks = 0, 0, 0, 0
    for name in ("term_begins", "block_begins", "peak_begins"):
        columns.add(name, np.zeros(1, np.int64))
    for low, high in merging.groups():
        made = merging.merged(low, high)
        bytes_, blocks, size, peaks = at
        columns.add("term_bytes", made.term_bytes)
        columns.add("term_begins", made.term_begins[1:] + bytes_)
        columns.add("block_begins", made.block_begins[1:] + blocks)
        columns.add("block_at", made.block_at + size)
        columns.add("peak_begins", made.peak_begins[1:] + peaks)
        for name in ("held", "occurrences", "block_last", "block_bits", "data", "peaks"):
            columns.add(name, getattr(made, name))
        at = (
            bytes_ + len(made.term_bytes), blocks + len(made.block_last), size + len(made.data),
            peaks + len(made.peaks),
        )  # fmt: skip
    return Postings(**columns.taken(), lengths=lengths)


class _Merging:
    """Several indexes on their way into one.

    owner : for the terms of one index after another, which merged term each is
    """

    def __init__(
        self, parts: Sequence[Postings], now: Sequence[NDArray[np.int64]], lengths: NDArray[np.int32]
    ) -> None:
        self.parts, self.lengths = parts, lengths
        self.now = np.concatenate(now) if now else np.empty(0, np.int64)
        self.now_base = np.cumsum([0, *(len(part) for part in parts)])
        self.first = np.cumsum([0, *(part.terms for part in parts)])
        self.blob, self.term_begins, self.owner = _merged_terms(parts)
        self.terms = len(self.term_begins) - 1
        held = np.concatenate([part.held for part in parts]) if parts else np.empty(0, np.int32)
        self.room = int(np.bincount(self.owner, held, self.terms).max(initial=0)) + 1

    def groups(self) -> Iterator[tuple[int, int]]:
        """Ranges of merged terms whose postings are merged at a time; one where there are none at all."""
        weight = np.zeros(self.terms, np.int64)
        for number, part in enumerate(self.parts):
            own = self.owner[self.first[number] : self.first[number + 1]]
            weight[own] += np.diff(np.append(part.block_at, len(part.data))[part.block_begins])
        ends = np.cumsum(weight)
        low = 0
        while low < self.terms or not low:
            before = int(ends[low - 1]) if low else 0
            high = max(int(np.searchsorted(ends, before + AT_ONCE, side="right")), min(low + 1, self.terms))
            yield low, high
            low = high
            if low >= self.terms:
                return

    def merged(self, low: int, high: int) -> Postings:
        """Some of the merged terms, their numbers and places counted from 0."""
        lists = self._lists(low, high)
        held, occurrences = np.zeros(high - low, np.int32), np.zeros(high - low, np.int64)
        count_lists(lists, self.room, held, occurrences)
        block_begins = np.concatenate([[0], np.cumsum((held + BLOCK - 1) // BLOCK, dtype=np.int64)])
        blocks = int(block_begins[-1])
        last, places, bits = np.zeros(blocks, np.int32), np.zeros(blocks, np.int64), np.zeros((blocks, 2), np.uint8)
        peak_begins = np.zeros(blocks + 1, np.int64)
        size, peaks = measure_lists(lists, self.room, self.lengths, block_begins, last, places, bits, peak_begins)
        packed, pairs = np.zeros(size, np.uint8), np.zeros((peaks, 2), np.int32)
        fill_lists(lists, self.room, self.lengths, block_begins, places, bits, peak_begins, packed, pairs)
        kept, begins = held > 0, self.term_begins[low : high + 1]
        widths = np.diff(begins)
        return Postings(
            self.blob[begins[0] : begins[-1]][np.repeat(kept, widths)],
            np.concatenate([[0], np.cumsum(widths[kept])]).astype(np.int64), held[kept], occurrences[kept],
            np.append(block_begins[:-1][kept], blocks).astype(np.int64), last, places, bits, packed, peak_begins,
            pairs, self.lengths,
        )  # fmt: skip

    def _lists(self, low: int, high: int) -> Lists:
        """The lists of some merged terms: a stretch of each part, since the terms of all stand in order."""
        owners, first_block, base, held, last, at, bits, data = [], [], [], [], [], [], [], []
        blocks = size = 0
        for number, part in enumerate(self.parts):
            own = self.owner[self.first[number] : self.first[number + 1]]
            here = slice(*np.searchsorted(own, (low, high)).tolist())
            begins = part.block_begins[here.start : here.stop + 1]
            inside = slice(int(begins[0]), int(begins[-1]))
            places = part.block_at[inside]
            end = int(part.block_at[inside.stop]) if inside.stop < len(part.block_at) else len(part.data)
            begin = int(places[0]) if len(places) else end
            owners.append(own[here] - low)
            first_block.append(begins[:-1] - inside.start + blocks)
            base.append(np.full(here.stop - here.start, self.now_base[number], np.int64))
            held.append(part.held[here])
            last.append(part.block_last[inside])
            at.append(places - begin + size)
            bits.append(part.block_bits[inside])
            data.append(part.data[begin:end])
            blocks, size = blocks + inside.stop - inside.start, size + end - begin
        owner = np.concatenate(owners)
        order = np.argsort(owner, kind="stable")
        begins = np.searchsorted(owner[order], np.arange(high - low + 1)).astype(np.int64)
        return Lists(
            begins, order, np.concatenate(first_block), np.concatenate(base), self.now, np.concatenate(held),
            np.concatenate(last), np.concatenate(at), np.concatenate(bits), np.concatenate(data),
        )  # fmt: skip


def _merged_terms(
    parts: Sequence[Postings],
) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64]]:
    """All terms of several indexes in order: their bytes, where each begins, and for the terms of one index after
    another the number that each has among them."""
    first = np.cumsum([0, *(part.terms for part in parts)])
    owner = np.empty(int(first[-1]), np.int64)
    blob, ends, before = bytearray(), array("q", [0]), None
    # Each index has its terms in order, so that they need not all be held to be put in one.
    for name, number in heapq.merge(*(_numbered(part, int(base)) for part, base in zip(parts, first, strict=False))):
        if name != before:
            blob += name
            ends.append(len(blob))
            before = name
        owner[number] = len(ends) - 2
    return np.frombuffer(bytes(blob), np.uint8), np.array(ends, np.int64), owner


def _numbered(part: Postings, base: int) -> Iterator[tuple[bytes, int]]:
    """Terms of an index in order, numbered from `base`."""
    for first in range(0, part.terms, TERMS_AT_ONCE):
        begins = part.term_begins[first : first + TERMS_AT_ONCE + 1].tolist()
        text = part.term_bytes[begins[0] : begins[-1]].tobytes()
        for place, (low, high) in enumerate(pairwise(begins)):
            yield text[low - begins[0] : high - begins[0]], base + first + place


@njit(cache=True, nogil=True)
def _gather(  # type: ignore[no-untyped-def]
    term,
    lists,
    chunks,
    counts,
):
    """Postings of a term from all parts, by their new numbers, rising; returns how many there are."""
    own, times = np.empty(BLOCK, np.int32), np.empty(BLOCK, np.int32)
    found, rising = 0, True
    for at in range(lists.begins[term], lists.begins[term + 1]):
        number = lists.order[at]
        left, before, block, base = (
            lists.held[number],
            np.int32(-1),
            lists.first_block[number],
            lists.now_base[number],
        )
        while left > 0:
            size = min(BLOCK, left)
            decode_block(block, size, before, lists.block_at, lists.block_bits, lists.data, own, times)
            for place in range(size):
                chunk = lists.now[base + own[place]]
                if chunk >= 0:
                    rising = rising and (found == 0 or chunk > chunks[found - 1])
                    chunks[found], counts[found] = chunk, times[place]
                    found += 1
            before = lists.block_last[block]
            left -= size
            block += 1
    if not rising:
        places = np.argsort(chunks[:found])
        chunks[:found] = chunks[:found][places]
        counts[:found] = counts[:found][places]
    return found


@njit(cache=True, nogil=True)
def count_lists(  # type: ignore[no-untyped-def]
    lists,
    room,
    kept,
    occurrences,
):
    """How many postings of every merged term are left, and how often it stands in them."""
    chunks, counts = np.empty(room, np.int32), np.empty(room, np.int32)
    for term in range(kept.size):
        kept[term] = _gather(term, lists, chunks, counts)
        total = np.int64(0)
        for at in range(kept[term]):
            total += counts[at]
        occurrences[term] = total


@njit(cache=True, nogil=True)
def measure_lists(  # type: ignore[no-untyped-def]
    lists,
    room,
    lengths,
    block_begins,
    last,
    places,
    bits,
    peak_begins,
):
    """`measure_blocks` for merged terms, one at a time."""
    size = 0
    chunks, counts = np.empty(room, np.int32), np.empty(room, np.int32)
    shortest, most, own = np.empty(LEVELS, np.int32), np.empty(1, np.int32), np.empty(BLOCK, np.int32)
    for term in range(block_begins.size - 1):
        found = _gather(term, lists, chunks, counts)
        size = measure_term(chunks, counts, 0, found, lengths, block_begins[term], block_begins[term + 1], size, last,
                             places, bits, peak_begins, shortest, most, own)  # fmt: skip
    return size, peak_begins[-1]


@njit(cache=True, nogil=True)
def fill_lists(  # type: ignore[no-untyped-def]
    lists,
    room,
    lengths,
    block_begins,
    places,
    bits,
    peak_begins,
    packed,
    peaks,
):
    """`fill_blocks` for merged terms, one at a time."""
    values = np.empty(BLOCK, np.int64)
    chunks, counts = np.empty(room, np.int32), np.empty(room, np.int32)
    shortest, most, own = np.empty(LEVELS, np.int32), np.empty(1, np.int32), np.empty(BLOCK, np.int32)
    for term in range(block_begins.size - 1):
        found = _gather(term, lists, chunks, counts)
        fill_term(chunks, counts, 0, found, lengths, block_begins[term], block_begins[term + 1], places, bits,
                   peak_begins, packed, peaks, values, shortest, most, own)  # fmt: skip
