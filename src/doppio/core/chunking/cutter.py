"""Cutting a stretch of text by the settings of a rule: its chunks, trimmed and none too short."""

from dataclasses import dataclass

import numpy as np

from doppio.core.chunking.kind import RULES, ChunkingRule
from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.kinds import Settings
from doppio.core.text import characters as c
from doppio.core.text.document import Document
from doppio.core.text.sentences import without_blanks
from doppio.core.text.units import Offsets, SentenceVectors, Units


@dataclass(frozen=True)
class Cutter:
    """Cuts stretches of text by filled chunking settings; `encoder` gives sentence vectors to rules that ask."""

    settings: Settings
    encoder: SentenceVectors | None = None

    @property
    def rule(self) -> ChunkingRule:
        return RULES.get(self.settings["rule"])

    def cut(self, document: Document, units: Units) -> tuple[Offsets, Offsets]:
        """Starts and ends of the chunks of a document, in the order of the text, without blank ones.

        Notes
        -----
        White space at the ends of a chunk is trimmed. A chunk of fewer units than `minimum` is joined with a
        neighbour where the two fit into `size` together.
        """
        starts, ends = self.rule.cut(document, units, self.settings, self.encoder)
        starts, ends = _trim(document.text, starts, ends)
        minimum = self.settings["minimum"]
        if minimum and self.rule.joins_short:
            starts, ends = join_short(starts, ends, units, self.settings["size"], minimum)
        return starts, ends

    def hosts(self, document: Document, units: Units, size: int) -> tuple[Offsets, Offsets]:
        """Bounds of the host chunks of `size` units that the chunks are cut within; blank text is left out."""
        found = self.rule.hosts(document, units, self.settings, size)
        starts, ends = found or natural_breaks(document, units, size, 0)
        starts, ends = _trim(document.text, starts, ends)
        # A sign may begin with a blank that the next mark joins: the host begins where the sign does.
        if len(starts):
            before = np.maximum(np.searchsorted(units.starts, starts, side="right") - 1, 0)
            starts = np.where(units.ends[before] > starts, np.minimum(units.starts[before], starts), starts)
        return starts, ends


def join_short(starts: Offsets, ends: Offsets, units: Units, size: int, minimum: int) -> tuple[Offsets, Offsets]:
    """Join a chunk of fewer than `minimum` units with the one before it, else with the one after it.

    Notes
    -----
    Only where the two together have at most `size` units.
    """
    found: list[tuple[int, int]] = []
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        if found:
            first, last = found[-1]
            low, middle, begin, high = np.searchsorted(units.starts, [first, last, start, end])
            if (middle - low < minimum or high - begin < minimum) and high - low <= size:
                found[-1] = (first, end)
                continue
        found.append((start, end))
    return _columns(found)


def _trim(text: str, starts: Offsets, ends: Offsets) -> tuple[Offsets, Offsets]:
    """Take white space off both ends; a chunk that adds nothing to the one before it, or nothing but white space
    to the one after it, goes."""
    if not len(starts):
        return starts, ends
    first, last = without_blanks(c.classes(text), starts, ends)
    kept: list[tuple[int, int]] = []
    for start, end in zip(first.tolist(), last.tolist(), strict=True):
        if kept and end <= kept[-1][1]:
            continue
        if kept and start <= kept[-1][0]:
            kept.pop()
        kept.append((start, end))
    return _columns(kept)


def _columns(bounds: list[tuple[int, int]]) -> tuple[Offsets, Offsets]:
    pairs = np.asarray(bounds, np.int64).reshape(-1, 2)
    return np.ascontiguousarray(pairs[:, 0]), np.ascontiguousarray(pairs[:, 1])
