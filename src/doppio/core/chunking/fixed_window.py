"""Fixed window: every chunk has the same number of units, wherever that cuts."""

import numpy as np

from doppio.core.chunking.kind import Rule
from doppio.core.kinds import Settings
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def fixed_window(units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """Cut a text into windows.

    Parameters
    ----------
    units : Units
        What is counted.
    size, overlap : int
        Units a chunk, and units that a chunk repeats from the one before; 0 <= overlap < size.

    Returns
    -------
    starts, ends : (n,) int64 arrays
        Offsets of the chunks. Only the last one may be shorter than `size` units.
    """
    count = len(units.starts)
    if count == 0:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    first = np.arange(0, max(count - overlap, 1), size - overlap, dtype=np.int64)
    last = np.minimum(first + size, count)
    return units.starts[first], units.ends[last - 1]


class FixedWindow(Rule):
    """See `fixed_window`."""

    name, title, order = "fixed-window", "fixed window", 2

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return fixed_window(units, settings["size"], settings["overlap"])

    def hosts(self, document: Document, units: Units, settings: Settings, size: int) -> tuple[Offsets, Offsets]:
        return fixed_window(units, size, 0)


KIND = FixedWindow()
