"""Windows of a passage: a scorer that reads less at once judges what answers, and not all that stands around it."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.text.units import Units

# Windows overlap by this share, so that what one cuts in two stands whole in the next.
OVERLAP = 0.25
LONGEST_LINE = 120
Ints = NDArray[np.int64]


def window_bounds(text: str, units: Units, size: int) -> Ints:
    """Cover a text with windows of at most `size` tokens, cut between words.

    Parameters
    ----------
    text : str
    units : Units
        Its tokens.
    size : int
        Tokens of a window, above 0.

    Returns
    -------
    (n, 2) int64, first token of each window and the one after its last; one window where all of it fits

    Notes
    -----
    Windows overlap by about a quarter. The last one ends with the text and is as long as the others. No word is cut,
    because its parts would fall into other tokens than they had in it, but for one that is longer than a window.
    """
    count = len(units.starts)
    edges = np.append(_word_begins(text, units), count)
    step = max(1, int(size * (1 - OVERLAP)))
    found: list[tuple[int, int]] = []
    first = 0
    while count - first > size:
        after = _last_edge(edges, first, first + size)
        found.append((first, after))
        first = min(_last_edge(edges, first, first + step), after)
    if found:
        first = min(first, int(edges[np.searchsorted(edges, count - size)]))
    return np.array([*found, (first, count)], np.int64)


def character_ranges(text: str, units: Units, bounds: Ints) -> list[tuple[int, int]]:
    """The same windows as ranges of characters; the first begins with the text and the last ends with it."""
    count = len(units.starts)
    return [
        (0 if first == 0 else int(units.starts[first]), len(text) if after >= count else int(units.ends[after - 1]))
        for first, after in bounds.tolist()
    ]


def line_before(title: str, headings: Sequence[str]) -> str:
    """What stands before every window: the title and the headings around it, on one line of at most 120 characters.

    Notes
    -----
    A heading that repeats the title stands once. Where there is too much, headings in the middle are left out first.
    """
    kept = [part for part in (title, *(heading for heading in headings if heading != title)) if part]
    while len(kept) > 2 and len(": ".join(kept)) > LONGEST_LINE:
        del kept[1]
    if len(kept) == 2 and len(": ".join(kept)) > LONGEST_LINE:
        del kept[0]
    return ": ".join(kept)[:LONGEST_LINE].rstrip()


def _word_begins(text: str, units: Units) -> Ints:
    """Tokens that do not go on with the word of the one before."""
    starts, ends = units.starts.tolist(), units.ends.tolist()
    joined = [
        begin == before and text[begin - 1 : begin].isalnum() and text[begin : begin + 1].isalnum()
        for begin, before in zip(starts[1:], ends[:-1], strict=True)
    ]
    return np.flatnonzero(~np.array([False, *joined][: len(starts)], bool))


def _last_edge(edges: Ints, first: int, most: int) -> int:
    """The last edge after `first` that is at most `most`; `most` itself where there is none."""
    edge = int(edges[np.searchsorted(edges, most, side="right") - 1])
    return edge if edge > first else most
