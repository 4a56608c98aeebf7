"""Postings of several segments as one: term by term, so that no more than one list stands unpacked at a time."""

import heapq
from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.blocks import LEVELS, fill_term, measure_term
from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.postings import Postings, decode_block

TERMS_AT_ONCE = 4096


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
    lengths = np.zeros(count, np.int32)
    for part, now in parts:
        lengths[now[now >= 0]] = part.lengths[now >= 0]
    blob, term_begins, owner = _merged_terms([part for part, _ in parts])
    order = np.argsort(owner, kind="stable")
    begins = np.searchsorted(owner[order], np.arange(len(term_begins))).astype(np.int64)
    # The parts one after another, so that a list is found by its number among all of them.
    part_of = np.repeat(np.arange(len(parts)), [part.terms for part, _ in parts])
    bases = [np.cumsum([0, *(size(part) for part, _ in parts)])[:-1] for size in (
        lambda part: len(part.block_last), lambda part: len(part.data), len)]  # fmt: skip
    joined = {name: np.concatenate([getattr(part, name) for part, _ in parts])
              for name in ("held", "block_last", "block_bits", "data")}  # fmt: skip
    first_block = np.concatenate(
        [part.block_begins[:-1] + base for (part, _), base in zip(parts, bases[0], strict=True)]
    )
    block_at = np.concatenate([part.block_at + base for (part, _), base in zip(parts, bases[1], strict=True)])
    now = np.concatenate([now for _, now in parts])
    lists = Lists(begins, order, first_block, bases[2][part_of], now, joined["held"], joined["block_last"], block_at,
             joined["block_bits"], joined["data"])  # fmt: skip
    room = int(np.bincount(owner, joined["held"], len(term_begins) - 1).max(initial=0)) + 1
    held, occurrences = np.zeros(len(begins) - 1, np.int32), np.zeros(len(begins) - 1, np.int64)
    count_lists(lists, room, held, occurrences)
    block_begins = np.concatenate([[0], np.cumsum((held + BLOCK - 1) // BLOCK, dtype=np.int64)])
    blocks = int(block_begins[-1])
    last, places, bits = np.zeros(blocks, np.int32), np.zeros(blocks, np.int64), np.zeros((blocks, 2), np.uint8)
    peak_begins = np.zeros(blocks + 1, np.int64)
    size, peaks = measure_lists(lists, room, lengths, block_begins, last, places, bits, peak_begins)
    packed, pairs = np.zeros(size, np.uint8), np.zeros((peaks, 2), np.int32)
    fill_lists(lists, room, lengths, block_begins, places, bits, peak_begins, packed, pairs)
    kept = held > 0
    widths = np.diff(term_begins)
    return Postings(
        blob[np.repeat(kept, widths)], np.concatenate([[0], np.cumsum(widths[kept])]).astype(np.int64), held[kept],
        occurrences[kept], np.append(block_begins[:-1][kept], blocks).astype(np.int64), last, places, bits, packed,
        peak_begins, pairs, lengths,
    )  # fmt: skip


def _merged_terms(
    parts: Sequence[Postings],
) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int64]]:
    """All terms of several indexes in order: their bytes, where each begins, and for the terms of one index after
    another the number that each has among them."""
    first = np.cumsum([0, *(part.terms for part in parts)])
    owner = np.empty(int(first[-1]), np.int64)
    distinct: list[bytes] = []
    # Each index has its terms in order, so that they need not all be held to be put in one.
    for name, number in heapq.merge(*(_numbered(part, int(base)) for part, base in zip(parts, first, strict=False))):
        if not distinct or distinct[-1] != name:
            distinct.append(name)
        owner[number] = len(distinct) - 1
    begins = np.concatenate([[0], np.cumsum([len(name) for name in distinct])]).astype(np.int64)
    return np.frombuffer(b"".join(distinct), np.uint8), begins, owner


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
