"""Pages: one chunk for each page of a document that has pages."""

import itertools

import numpy as np

from doppio.core.chunking.kind import Rule
from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.chunking.parts import part_of
from doppio.core.kinds import Settings
from doppio.core.text.document import PAGE, Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def pages(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """One chunk a page; a page of more than `size` units, and a document without pages, is cut at its pauses.

    Returns
    -------
    starts, ends : (n,) int64 arrays
    """
    length = len(document.text)
    breaks = [block.start for block in document.blocks if block.kind == PAGE]
    edges = sorted({0, length, *breaks})
    starts: list[Offsets] = [np.empty(0, np.int64)]
    ends: list[Offsets] = [np.empty(0, np.int64)]
    for start, end in itertools.pairwise(edges):
        inside = units.within(start, end)
        if breaks and 0 < len(inside.starts) <= size:
            starts.append(np.array([start], np.int64))
            ends.append(np.array([end], np.int64))
        elif len(inside.starts):
            first, last = natural_breaks(part_of(document, start, end), inside, size, overlap)
            starts.append(first + start)
            ends.append(last + start)
    return np.concatenate(starts), np.concatenate(ends)


class Pages(Rule):
    """See `pages`."""

    name, title, order = "pages", "one chunk a page", 7
    joins_short = False

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return pages(document, units, settings["size"], settings["overlap"])


KIND = Pages()
