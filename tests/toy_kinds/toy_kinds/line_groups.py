"""A chunking rule: a chunk is so many lines, as long as they fit."""

import numpy as np

from doppio.core.chunking.kind import Rule
from doppio.core.kinds import Setting, Settings, whole
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


class LineGroups(Rule):
    name, title = "line-groups", "groups of lines"
    summary = "{lines} lines"
    settings: tuple[Setting, ...] = (whole("lines", "Lines a chunk", 1, 50, 4, built=True),)

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        starts, ends, at = [], [], 0
        lines = document.text.splitlines(keepends=True)
        for first in range(0, len(lines), settings["lines"]):
            part = "".join(lines[first : first + settings["lines"]])
            inside = units.within(at, at + len(part))
            for low in range(0, len(inside.starts), settings["size"]):
                high = min(low + settings["size"], len(inside.starts))
                starts.append(at + int(inside.starts[low]))
                ends.append(at + int(inside.ends[high - 1]))
            at += len(part)
        return np.array(starts, np.int64), np.array(ends, np.int64)


KIND = LineGroups()
