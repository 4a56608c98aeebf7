"""Rows: one chunk for each row of a table."""

import numpy as np

from doppio.core.chunking.kind import Rule
from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.chunking.parts import part_of, row_ranges
from doppio.core.kinds import Settings
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def rows(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """One chunk a row; a row of more than `size` units, and what is no row, is cut at its pauses.

    Returns
    -------
    starts, ends : (n,) int64 arrays
    """
    starts: list[Offsets] = []
    ends: list[Offsets] = []
    for start, end, is_row in row_ranges(document):
        inside = units.within(start, end)
        if is_row and len(inside.starts) <= size:
            starts.append(np.array([start], np.int64))
            ends.append(np.array([end], np.int64))
        elif len(inside.starts):
            part = part_of(document, start, end)
            first, last = natural_breaks(part, inside, size, overlap)
            starts.append(first + start)
            ends.append(last + start)
    empty = np.empty(0, np.int64)
    return np.concatenate([empty, *starts]), np.concatenate([empty, *ends])


class Rows(Rule):
    """See `rows`."""

    name, title, order = "rows", "one chunk a row", 6
    joins_short = False

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return rows(document, units, settings["size"], settings["overlap"])


KIND = Rows()
