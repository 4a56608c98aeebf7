"""Rows: one chunk for each row of a table."""

from doppio.core.chunking.kind import Rule
from doppio.core.chunking.parts import row_ranges
from doppio.core.chunking.whole_or_cut import whole_or_cut
from doppio.core.kinds import Settings
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def rows(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """One chunk a row; a row of more than `size` units, and what is no row, is cut at its pauses.

    Returns
    -------
    starts, ends : (n,) int64 arrays
    """
    return whole_or_cut(document, units, row_ranges(document), size, overlap)


class Rows(Rule):
    """See `rows`."""

    name, title, order = "rows", "one chunk a row", 6
    joins_short = False

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return rows(document, units, settings["size"], settings["overlap"])


KIND = Rows()
