"""Natural breaks: end a chunk where the text itself pauses, at the largest pause that fits."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.chunking.kind import Rule
from doppio.core.kinds import Settings
from doppio.core.text import characters as c
from doppio.core.text.document import HEADING, Document
from doppio.core.text.sentences import sentence_starts
from doppio.core.text.units import Offsets, SentenceVectors, Units, words

INSIDE, WORD, SENTENCE, LINE, PARAGRAPH, TOP = 0, 1, 2, 3, 4, 5


def natural_breaks(document: Document, units: Units, size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """Cut a text at paragraphs, else lines, else sentences, else words.

    Parameters
    ----------
    document : Document
    units : Units
        What is counted, over `document.text`.
    size, overlap : int
        The most units a chunk may have, and the most that it repeats from the one before;
        0 <= overlap < size.

    Returns
    -------
    starts, ends : (n,) int64 arrays

    Notes
    -----
    The chunk ends at the largest pause in the second half of its window, and of equal pauses at the last.
    No pause follows a heading: it stays with the text below it. An overlap begins at a sentence where one
    begins within it, else at a word. A single word longer than `size` is cut inside.
    """
    if len(units.starts) == 0:
        return np.empty(0, np.int64), np.empty(0, np.int64)
    first, last = cut_at_pauses(pauses(document, units), size, overlap)
    return units.starts[first], units.ends[last - 1]


def pauses(document: Document, units: Units) -> NDArray[np.int8]:
    """How large the pause before each unit is, and one more at the end: (n + 1,) int8."""
    text = document.text
    strength = np.zeros(len(text) + 1, np.int8)
    strength[words(text).starts] = WORD
    strength[sentence_starts(text, document.habits)] = SENTENCE
    _mark_lines(c.classes(text), strength)
    level = _before_units(strength, units.starts, units.ends)
    headings = [block for block in document.blocks if block.kind == HEADING]
    if headings:
        count = len(units.starts)
        begins = np.searchsorted(units.starts, np.array([block.start for block in headings], np.int64))
        follows = np.searchsorted(units.starts, np.array([block.end for block in headings], np.int64))
        level[begins] = np.maximum(level[begins], PARAGRAPH)
        level[follows[follows < count]] = WORD
        level[begins] = np.where(np.isin(begins, follows), WORD, level[begins])
    level[0] = level[-1] = TOP
    return np.asarray(level)


@njit(cache=True, nogil=True)
def _mark_lines(kinds: NDArray[np.uint8], strength: NDArray[np.int8]) -> None:
    """Mark what follows a line end and a blank line, after the white space there."""
    lines = 0
    for at in range(kinds.size):
        if kinds[at] == c.NEWLINE:
            lines += 1
        elif kinds[at] != c.SPACE:
            if lines:
                strength[at] = max(strength[at], LINE if lines == 1 else PARAGRAPH)
            lines = 0


@njit(cache=True, nogil=True)
def _before_units(strength: NDArray[np.int8], starts: Offsets, ends: Offsets) -> NDArray[np.int8]:
    """The largest pause after the begin of the unit before and up to the begin of each unit; a pause inside of a
    unit is none."""
    level = np.zeros(starts.size + 1, np.int8)
    for unit in range(1, starts.size):
        for at in range(ends[unit - 1], starts[unit] + 1):
            level[unit] = max(level[unit], strength[at])
    return level


@njit(cache=True, nogil=True)
def cut_at_pauses(level: NDArray[np.int8], size: int, overlap: int) -> tuple[Offsets, Offsets]:
    """First unit and the unit after the last of every chunk, from the pauses before the units."""
    count = level.size - 1
    firsts = np.empty(count, np.int64)
    lasts = np.empty(count, np.int64)
    found = 0
    start = 0
    reached = 0
    while True:
        end = min(start + size, count)
        if end < count:
            strongest = level[end]
            for at in range(end - 1, max(start + (size + 1) // 2, reached + 1) - 1, -1):
                if level[at] > strongest and at > start:
                    strongest = level[at]
                    end = at
            if strongest == 0:
                pause = end
                for at in range(end - 1, max(start, reached), -1):
                    if level[at] > 0:
                        pause = at
                        break
                if pause == end and start < reached:
                    # The overlap leaves no room for the next word: go on without it.
                    start = reached
                    continue
                end = pause
        firsts[found] = start
        lasts[found] = end
        found += 1
        reached = end
        if end >= count:
            break
        again = end
        for at in range(max(end - overlap, start + 1), end):
            if level[at] > 1:
                again = at
                break
            if level[at] == 1 and again == end:
                again = at
        start = again
    return firsts[:found].copy(), lasts[:found].copy()


class NaturalBreaks(Rule):
    """See `natural_breaks`."""

    name, title, order = "natural-breaks", "natural breaks", 1

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return natural_breaks(document, units, settings["size"], settings["overlap"])


KIND = NaturalBreaks()
