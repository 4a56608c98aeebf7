"""Pieces that stay whole where they fit, such as rows and pages; what is none, and what is too large, is cut."""

from collections.abc import Sequence

import numpy as np

from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.chunking.parts import part_of
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, Units


def whole_or_cut(
    document: Document, units: Units, pieces: Sequence[tuple[int, int, bool]], size: int, overlap: int
) -> tuple[Offsets, Offsets]:
    """Starts and ends of chunks, (n,) int64: a piece a chunk, or several cut at its pauses.

    Parameters
    ----------
    pieces : start, end, and whether it may stay whole: it does where it has at most `size` units
    """
    starts: list[Offsets] = []
    ends: list[Offsets] = []
    for start, end, stays in pieces:
        inside = units.within(start, end)
        if stays and len(inside.starts) <= size:
            starts.append(np.array([start], np.int64))
            ends.append(np.array([end], np.int64))
        elif len(inside.starts):
            first, last = natural_breaks(part_of(document, start, end), inside, size, overlap)
            starts.append(first + start)
            ends.append(last + start)
    empty = np.empty(0, np.int64)
    return np.concatenate([empty, *starts]), np.concatenate([empty, *ends])
