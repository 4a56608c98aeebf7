"""Postings from texts: terms are gathered, sorted and packed in runs, which are merged at the end."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.sparse.blocks import fill_blocks, measure_blocks
from doppio.core.branches.sparse.merging import merge_postings
from doppio.core.branches.sparse.packing import BLOCK
from doppio.core.branches.sparse.postings import Postings
from doppio.core.progress import Progress, Silent
from doppio.core.text.analysis import Analysis

# Terms that are gathered before they are packed.
RUN = 16 << 20
# Chunks of parts that are joined before they wait for the others.
JOINED_AT_ONCE = 200_000
# Names of terms that are kept from run to run.
MOST_NAMES = 1_000_000


def build_postings(
    texts: Iterable[str],
    count: int,
    analysis: Analysis,
    progress: Progress | None = None,
    scratch: Path | None = None,
) -> Postings:
    """Index `count` texts; the n-th text is chunk n.

    Parameters
    ----------
    scratch : Path or None
        A folder for what does not fit into one run; the result is then mapped from files in it. None where all is to
        stand in memory.

    Notes
    -----
    Terms are gathered and packed in runs, which are merged at the end. With a folder the runs wait in it, so memory
    holds one run, the names of its terms, and a number or two a chunk.
    """
    progress = progress or Silent()
    progress.start("index terms", count, "chunks")
    numbers = analysis.numbering()
    lengths = np.zeros(count, np.int32)
    stream = np.empty(RUN, np.int32)
    runs: list[tuple[Postings, NDArray[np.int64]]] = []
    first, filled = 0, 0
    for chunk, text in enumerate(texts):
        found = numbers(text)
        if filled and filled + len(found) > len(stream):
            made = _run(numbers.vocabulary, stream[:filled], lengths[first:chunk])
            runs.append((_spilled(made, scratch, len(runs)), np.arange(first, chunk)))
            if len(numbers.vocabulary) > MOST_NAMES:
                # Each run has its own names; words that are met once in a corpus are most of them.
                numbers = analysis.numbering()
                found = numbers(text)
            first, filled = chunk, 0
        if len(found) > len(stream):
            stream = np.empty(len(found), np.int32)
        stream[filled : filled + len(found)] = found
        filled += len(found)
        lengths[chunk] = len(found)
        progress.advance(1)
    if not runs:
        return pack_postings(list(numbers.vocabulary), stream[:filled], lengths)
    runs.append((_run(numbers.vocabulary, stream[:filled], lengths[first:]), np.arange(first, count)))
    del stream, numbers
    return merge_postings(runs, count, scratch)


def part_of(texts: Sequence[str], analysis: Analysis) -> Postings:
    """Postings of some texts that are a part of more."""
    numbers = analysis.numbering()
    found = [numbers(text) for text in texts]
    stream = np.concatenate([np.empty(0, np.int32), *found]).astype(np.int32)
    return _run(numbers.vocabulary, stream, np.array([len(own) for own in found], np.int32))


def join_postings(parts: Iterable[Postings], count: int, progress: Progress, scratch: Path | None = None) -> Postings:
    """Postings of `count` chunks whose parts come one after another, as `part_of` makes them; equal to those that
    `build_postings` makes of all texts."""
    progress.start("index terms", count, "chunks")
    runs: list[tuple[Postings, NDArray[np.int64]]] = []
    waiting: list[Postings] = []
    first = 0

    def join() -> None:
        nonlocal first, waiting
        begins = np.cumsum([0, *(len(part) for part in waiting)])
        places = [np.arange(low, high) for low, high in pairwise(begins.tolist())]
        made = merge_postings(list(zip(waiting, places, strict=True)), int(begins[-1]))
        runs.append((_spilled(_bare(made), scratch, len(runs)), np.arange(first, first + len(made))))
        first, waiting = first + len(made), []

    for part in parts:
        waiting.append(part)
        progress.advance(len(part))
        if sum(map(len, waiting)) >= JOINED_AT_ONCE:
            join()
    if waiting or not runs:
        join()
    return merge_postings(runs, count, scratch)


def _spilled(made: Postings, scratch: Path | None, number: int) -> Postings:
    """A run on disk, mapped, where there is a folder for it."""
    if scratch is None:
        return made
    folder = scratch / f"run-{number}"
    folder.mkdir(parents=True)
    for name, array in made.arrays().items():
        np.save(folder / f"{name}.npy", array, allow_pickle=False)
    return Postings.opened({name: np.load(folder / f"{name}.npy", mmap_mode="r") for name in made.arrays()})


def _run(vocabulary: Mapping[str, int], stream: NDArray[np.int32], lengths: NDArray[np.int32]) -> Postings:
    """Postings of some of the chunks, of the terms that they hold alone."""
    there = np.bincount(stream, minlength=len(vocabulary)) > 0
    own = (np.cumsum(there) - 1).astype(np.int32)[stream]
    made = pack_postings([name for name, used in zip(vocabulary, there.tolist(), strict=True) if used], own, lengths)
    return _bare(made)


def _bare(made: Postings) -> Postings:
    """Postings without what bounds their blocks, which is found anew for those that they become."""
    return replace(made, peaks=made.peaks[:0].copy(), peak_begins=made.peak_begins[:1].copy())


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
    blob, term_begins, ranks = in_order(vocabulary)
    chunks, counts, begins = invert(stream, ranks, lengths)
    return _packed(blob, term_begins, chunks, counts, begins, lengths)


def pack_counted(
    vocabulary: Sequence[str],
    stream: NDArray[np.int32],
    counts: NDArray[np.int32],
    sizes: NDArray[np.int64],
    lengths: NDArray[np.int32],
) -> Postings:
    """Postings from the different terms of all chunks, each with its count.

    Parameters
    ----------
    vocabulary : sequence of t different str
        In any order; those that no chunk has are left out.
    stream, counts : (sum of sizes,) int32 arrays
        Positions in the vocabulary, chunk after chunk, none twice in a chunk, and their counts.
    sizes : (n,) int64 array
        Different terms of each chunk.
    lengths : (n,) int32 array
        Its length, whatever it is counted in.
    """
    used = np.bincount(stream, minlength=len(vocabulary)) > 0
    own = (np.cumsum(used) - 1).astype(np.int32)[stream]
    there = [name for name, found in zip(vocabulary, used.tolist(), strict=True) if found]
    blob, term_begins, ranks = in_order(there)
    terms = ranks[own]
    # Chunks rise within a term, since the sort keeps their order.
    order = np.argsort(terms, kind="stable")
    begins = np.searchsorted(terms[order], np.arange(len(there) + 1)).astype(np.int64)
    chunks = np.repeat(np.arange(len(sizes), dtype=np.int32), sizes)[order]
    return _packed(blob, term_begins, chunks, counts[order], begins, lengths)


def in_order(vocabulary: Sequence[str]) -> tuple[NDArray[np.uint8], NDArray[np.int64], NDArray[np.int32]]:
    """Terms one after another in the order of their bytes, where each begins, and the rank of each."""
    encoded = [term.encode() for term in vocabulary]
    order = sorted(range(len(encoded)), key=encoded.__getitem__)
    ranks = np.empty(len(encoded), np.int32)
    ranks[order] = np.arange(len(encoded), dtype=np.int32)
    blob = np.frombuffer(b"".join(encoded[place] for place in order), np.uint8)
    return blob, np.cumsum([0, *(len(encoded[place]) for place in order)]).astype(np.int64), ranks


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
