"""Sentence groups: whole sentences, as many as fit; what is repeated is whole sentences too."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.chunking.kind import OVERLAP_IN_SENTENCES, SENTENCES, Rule
from doppio.core.chunking.natural_breaks import cut_at_pauses, pauses
from doppio.core.kinds import Setting, Settings
from doppio.core.text.document import Document
from doppio.core.text.sentences import sentences_of
from doppio.core.text.units import Offsets, SentenceVectors, Units


def sentence_groups(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """Cut a text between sentences.

    Parameters
    ----------
    document : Document
    units : Units
        What `size` counts, over `document.text`.
    size : int
        The most units a chunk may have.
    overlap : int
        The most sentences that a chunk repeats from the one before.

    Returns
    -------
    starts, ends : (n,) int64 arrays

    Notes
    -----
    A sentence longer than `size` is cut at its largest pauses, and its parts count as sentences. An overlap that
    would leave no room for the next sentence is shortened.
    """
    first, last = sentence_units(document, units, size)
    if not len(first):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    begins, finishes = group(first, last, size, overlap)
    return units.starts[first[begins]], units.ends[last[finishes - 1] - 1]


def sentence_units(document: Document, units: Units, size: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """First unit of each sentence and the unit after its last; none has more than `size` units."""
    starts, ends = sentences_of(document)
    # A sentence may begin within a unit, where what is written over a blank is one sign with it.
    first = np.searchsorted(units.ends, starts, side="right")
    last = np.searchsorted(units.starts, ends)
    first[1:] = np.maximum(first[1:], last[:-1])
    some = last > first
    first, last = first[some], last[some]
    long = np.flatnonzero(last - first > size)
    if not len(long):
        return first, last
    level = pauses(document, units)
    parts = []
    done = 0
    for place in long.tolist():
        low, high = int(first[place]), int(last[place])
        parts.append((first[done:place], last[done:place]))
        within = level[low : high + 1].copy()
        within[0] = within[-1] = 5
        begins, finishes = cut_at_pauses(within, size, 0)
        parts.append((begins + low, finishes + low))
        done = place + 1
    parts.append((first[done:], last[done:]))
    return np.concatenate([part[0] for part in parts]), np.concatenate([part[1] for part in parts])


@njit(cache=True, nogil=True)
def group(first: NDArray, last: NDArray, size: int, overlap: int) -> tuple[NDArray, NDArray]:
    """Put sentences into chunks: number of the first sentence of each and of the one after its last."""
    count = first.size
    begins = np.empty(count, np.int64)
    finishes = np.empty(count, np.int64)
    found = 0
    start = 0
    end = 0
    while end < count:
        while start < end and last[end] - first[start] > size:
            start += 1
        end += 1
        while end < count and last[end] - first[start] <= size:
            end += 1
        begins[found], finishes[found] = start, end
        found += 1
        start = max(end - overlap, start + 1)
    return begins[:found].copy(), finishes[:found].copy()


class SentenceGroups(Rule):
    """See `sentence_groups`."""

    name, title, order = "sentence-groups", "sentence groups", 3
    overlap_in = SENTENCES
    settings: tuple[Setting, ...] = (OVERLAP_IN_SENTENCES,)

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return sentence_groups(document, units, settings["size"], settings["overlap"])


KIND = SentenceGroups()
