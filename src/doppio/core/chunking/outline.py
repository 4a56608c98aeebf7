"""Outline: chunks follow the sections of a document, and tables and code stay whole."""

from itertools import pairwise

import numpy as np

from doppio.core.chunking.kind import Rule
from doppio.core.chunking.natural_breaks import INSIDE, TOP, cut_at_pauses, pauses
from doppio.core.kinds import Setting, Settings, whole
from doppio.core.text.document import CODE, HEADING, PAGE, ROW, Block, Document
from doppio.core.text.units import Offsets, SentenceVectors, Units


def outline(
    document: Document, units: Units, size: int, overlap: int, *, level: int, minimum: int
) -> tuple[Offsets, Offsets]:
    """Cut a text at its headings, and inside of a section at its pauses.

    Parameters
    ----------
    document : Document
    units : Units
        What is counted, over `document.text`.
    size, overlap : int
        The most units a chunk may have, and the most that it repeats from the one before in the same section.
    level : int
        No chunk crosses a heading of this level or a higher one (1 is the highest).
    minimum : int
        Sections of fewer units are joined with the ones after them up to this size, whatever their level.

    Returns
    -------
    starts, ends : (n,) int64 arrays

    Notes
    -----
    A table, and a piece of code, that fits into a chunk is never cut; a larger one is cut between its rows or
    lines. Every row carries the names of its columns, so no part of a table stands without its header.
    """
    count = len(units.starts)
    if count == 0:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    pause = pauses(document, units)
    for first, last in _kept_whole(document, units, size):
        pause[first + 1 : last] = INSIDE
    starts, ends = [], []
    for first, last in _joined(section_bounds(document, units, level), size, minimum):
        within = pause[first : last + 1].copy()
        within[0] = within[-1] = TOP
        begins, finishes = cut_at_pauses(within, size, overlap)
        starts.append(units.starts[begins + first])
        ends.append(units.ends[finishes + first - 1])
    return np.concatenate(starts), np.concatenate(ends)


def section_bounds(document: Document, units: Units, level: int) -> list[tuple[int, int]]:
    """First unit of every stretch between headings of the level or higher, and the unit after its last."""
    count = len(units.starts)
    begins = [block.start for block in document.blocks if block.kind == HEADING and block.level <= level]
    edges = np.unique(np.concatenate([[0], np.searchsorted(units.starts, np.array(begins, np.int64)), [count]]))
    found = list(zip(edges[:-1].tolist(), edges[1:].tolist(), strict=True))
    bare = _bare_headings(document, units)
    # A heading that a deeper one follows at once stays with it: on its own it is no chunk that answers anything.
    joined: list[tuple[int, int]] = []
    waits = False
    for first, last in found:
        if waits:
            joined[-1] = (joined[-1][0], last)
        else:
            joined.append((first, last))
        waits = (first, last) in bare
    return joined


def _bare_headings(document: Document, units: Units) -> set[tuple[int, int]]:
    """Ranges of units that are one heading and nothing else, where the heading that follows is deeper."""
    blocks = [block for block in document.blocks if block.kind != PAGE]
    heads = [
        block
        for block, after in pairwise(blocks)
        if block.kind == HEADING and after.kind == HEADING and after.level > block.level
    ]
    low = np.searchsorted(units.starts, np.array([block.start for block in heads], np.int64))
    high = np.searchsorted(units.starts, np.array([block.end for block in heads], np.int64))
    return set(zip(low.tolist(), high.tolist(), strict=True))


def _joined(bounds: list[tuple[int, int]], size: int, minimum: int) -> list[tuple[int, int]]:
    """Join short sections with their neighbours where the whole still fits into one chunk."""
    found: list[tuple[int, int]] = []
    for first, last in bounds:
        if found:
            before = found[-1]
            short = before[1] - before[0] < minimum or last - first < minimum
            if short and last - before[0] <= size:
                found[-1] = (before[0], last)
                continue
        found.append((first, last))
    return found


def _kept_whole(document: Document, units: Units, size: int) -> list[tuple[int, int]]:
    """Ranges of units that are not cut: tables and code that fit, else the single rows and lines that do."""
    pieces: list[tuple[int, int]] = []
    for run in _runs([block for block in document.blocks if block.kind != PAGE]):
        whole = _unit_range(units, run[0].start, run[-1].end)
        if whole[1] - whole[0] <= size:
            pieces.append(whole)
        elif run[0].kind == ROW:
            pieces += [_unit_range(units, row.start, row.end) for row in run]
        else:
            pieces += _lines(document.text, units, run[0])
    return [(first, last) for first, last in pieces if 0 < last - first <= size]


def _runs(blocks: list[Block]) -> list[list[Block]]:
    """Tables as runs of rows, and pieces of code."""
    found: list[list[Block]] = []
    before = None
    for block in blocks:
        if block.kind == ROW and before == ROW:
            found[-1].append(block)
        elif block.kind in (ROW, CODE):
            found.append([block])
        before = block.kind
    return found


def _lines(text: str, units: Units, block: Block) -> list[tuple[int, int]]:
    found = []
    start = block.start
    while start < block.end:
        stop = text.find("\n", start, block.end)
        stop = block.end if stop < 0 else stop
        found.append(_unit_range(units, start, stop))
        start = stop + 1
    return found


def _unit_range(units: Units, start: int, end: int) -> tuple[int, int]:
    low, high = np.searchsorted(units.starts, [start, end])
    return int(low), int(high)


class Outline(Rule):
    """See `outline`."""

    name, title, order = "outline", "outline", 4
    summary = "headings to level {level}"
    joins_short = False
    settings: tuple[Setting, ...] = (whole("level", "Heading level", 1, 9, 2, built=True),)

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        size, overlap, minimum = settings["size"], settings["overlap"], settings["minimum"]
        return outline(document, units, size, overlap, level=settings["level"], minimum=minimum)

    def hosts(self, document: Document, units: Units, settings: Settings, size: int) -> tuple[Offsets, Offsets]:
        return outline(document, units, size, 0, level=settings["level"], minimum=settings["minimum"])


KIND = Outline()
