"""Pages: one chunk for each page of a document that has pages."""

import itertools

from doppio.core.chunking.kind import Rule
from doppio.core.chunking.whole_or_cut import whole_or_cut
from doppio.core.kinds import Settings
from doppio.core.text.document import PAGE, Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def pages(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """One chunk a page; a page of more than `size` units, and a document without pages, is cut at its pauses.

    Returns
    -------
    starts, ends : (n,) int64 arrays
    """
    breaks = [block.start for block in document.blocks if block.kind == PAGE]
    edges = sorted({0, len(document.text), *breaks})
    pieces = [
        (start, end, bool(breaks) and not document.text[start:end].isspace())
        for start, end in itertools.pairwise(edges)
    ]
    return whole_or_cut(document, units, pieces, size, overlap)


class Pages(Rule):
    """See `pages`."""

    name, title, order = "pages", "one chunk a page", 7
    joins_short = False

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return pages(document, units, settings["size"], settings["overlap"])


KIND = Pages()
