"""Which rule cuts a stretch of text, with which settings."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from doppio.core.chunking.fixed_window import fixed_window
from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.chunking.outline import outline
from doppio.core.chunking.parts import part_of, row_ranges
from doppio.core.chunking.sentence_groups import sentence_groups
from doppio.core.chunking.topic_shift import VECTORS, topic_shift
from doppio.core.chunking.units import Offsets, SentenceVectors, Units
from doppio.core.text import characters as c
from doppio.core.text.document import Document
from doppio.core.text.sentences import without_blanks

FIXED, NATURAL, SENTENCES, OUTLINE, TOPIC, ROWS = (
    "fixed-window", "natural-breaks", "sentence-groups", "outline", "topic-shift", "rows",
)  # fmt: skip
DEFAULTS: Mapping[str, Any] = {"overlap": 0, "minimum": 0, "context": "none", "host": None}
RULE_DEFAULTS: Mapping[str, Mapping[str, Any]] = {
    OUTLINE: {"level": 2},
    TOPIC: {"signal": "terms", "window": 3, "sensitivity": 0.5},
}


def filled(chunking: Mapping[str, Any]) -> dict[str, Any]:
    """Chunking settings with everything that was left out."""
    return {**DEFAULTS, **RULE_DEFAULTS.get(chunking["rule"], {}), **chunking}


@dataclass(frozen=True)
class Cutter:
    """Cuts stretches of text by filled chunking settings; `encoder` gives sentence vectors to rules that ask."""

    settings: Mapping[str, Any]
    encoder: SentenceVectors | None = None

    def cut(self, document: Document, units: Units) -> tuple[Offsets, Offsets]:
        """Starts and ends of the chunks of a document, in the order of the text, without blank ones.

        Notes
        -----
        White space at the ends of a chunk is trimmed. A chunk of fewer units than `minimum` is joined with a
        neighbour where the two fit into `size` together.
        """
        rule = self.settings["rule"]
        starts, ends = self._rows(document, units) if rule == ROWS else self._rule(document, units, rule)
        starts, ends = _trim(document.text, starts, ends)
        minimum = self.settings["minimum"]
        if minimum and rule not in (OUTLINE, ROWS):
            starts, ends = join_short(starts, ends, units, self.settings["size"], minimum)
        return starts, ends

    def hosts(self, document: Document, units: Units, size: int) -> tuple[Offsets, Offsets]:
        """Bounds of the host chunks of `size` units that the chunks are cut within; blank text is left out."""
        settings = self.settings
        if settings["rule"] == OUTLINE:
            starts, ends = outline(document, units, size, 0, level=settings["level"], minimum=settings["minimum"])
        elif settings["rule"] == FIXED:
            starts, ends = fixed_window(units, size, 0)
        else:
            starts, ends = natural_breaks(document, units, size, 0)
        return _trim(document.text, starts, ends)

    def _rule(self, document: Document, units: Units, rule: str) -> tuple[Offsets, Offsets]:
        settings = self.settings
        size, overlap, minimum = settings["size"], settings["overlap"], settings["minimum"]
        if rule == FIXED:
            return fixed_window(units, size, overlap)
        if rule == SENTENCES:
            return sentence_groups(document, units, size, overlap)
        if rule == OUTLINE:
            return outline(document, units, size, overlap, level=settings["level"], minimum=minimum)
        if rule == TOPIC:
            return topic_shift(
                document,
                units,
                size,
                overlap,
                window=settings["window"],
                sensitivity=settings["sensitivity"],
                minimum=minimum,
                encoder=self.encoder if settings["signal"] == VECTORS else None,
            )
        return natural_breaks(document, units, size, overlap)

    def _rows(self, document: Document, units: Units) -> tuple[Offsets, Offsets]:
        """One chunk a row; a row that is too large, and what is no row, is cut at its pauses."""
        size, overlap = self.settings["size"], self.settings["overlap"]
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
        if not starts:
            return np.empty(0, np.int64), np.empty(0, np.int64)
        return np.concatenate(starts), np.concatenate(ends)


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
