"""Where do offsets on a text as it was given stand in its canonical form?"""

import unicodedata
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
import regex
from numpy.typing import NDArray

from doppio.core.text.canonical import CONTROL, HALVES, LINE_ENDS, REPLACED, canonical

Moves = tuple[tuple[int, int], ...]
_PIECES = regex.compile(rf"(?P<end>{LINE_ENDS.pattern})|(?P<gone>{CONTROL.pattern})", regex.V1)
_CLUSTER = regex.compile(r"\X")
_LONGEST = 32


def canonical_with_moves(text: str) -> tuple[str, Moves]:
    """A text in canonical form, and how offsets move.

    Returns
    -------
    str
        `canonical(text)`.
    Moves
        Pairs of an offset in the given text and the one in its canonical form, rising; between two of them offsets
        move as the first does. The last is both lengths. Empty where nothing moves.
    """
    kept = canonical(text)
    if len(kept) == len(text) and kept == HALVES.sub(REPLACED, text):
        return kept, ()
    at, lined = _line_ends(text)
    # Line ends and signs that are gone do not join what composes: they are taken out before, as `canonical` does.
    at = _composed(HALVES.sub(REPLACED, lined))[at]
    shift = at - np.arange(at.size)
    places = np.flatnonzero(np.append(shift[:1] != 0, shift[1:] != shift[:-1]))
    pairs = [(int(place), int(at[place])) for place in places]
    end = (len(text), int(at[-1]))
    return kept, tuple(pairs if pairs and pairs[-1] == end else [*pairs, end])


def moved(moves: Sequence[Sequence[int]], offset: int) -> int:
    """Where an offset of the given text stands in its canonical form."""
    row = bisect_right(moves, offset, key=lambda pair: pair[0]) - 1
    return offset if row < 0 else moves[row][1] + offset - moves[row][0]


def back(moves: Sequence[Sequence[int]], offset: int) -> int:
    """The offset of the given text that `moved` brings to an offset of its canonical form.

    Notes
    -----
    Of several the first, and where none is brought there, within what composes, the one before.
    """
    row = bisect_left(moves, offset, key=lambda pair: pair[1])
    if row < len(moves) and moves[row][1] == offset:
        return moves[row][0]
    if not row:
        return offset
    reached = moves[row - 1][0] + offset - moves[row - 1][1]
    return min(reached, moves[row][0]) if row < len(moves) else reached


def given_length(moves: Sequence[Sequence[int]], text: str) -> int:
    """Length of the given text whose canonical form is `text`."""
    return moves[-1][0] if moves else len(text)


def _line_ends(text: str) -> tuple[NDArray[np.int64], str]:
    """Offsets after line ends are one character and control characters are gone: (characters + 1,); and the text."""
    widths = np.ones(len(text), np.int64)
    for match in _PIECES.finditer(text):
        widths[match.start() + (match["gone"] is None) : match.end()] = 0
    return np.append(0, np.cumsum(widths)), CONTROL.sub("", LINE_ENDS.sub("\n", text))


def _composed(text: str) -> NDArray[np.int64]:
    """Offsets after composition: (characters + 1,). Offsets within what composes go behind it."""
    widths = np.ones(len(text), np.int64)
    first = 0
    for line in text.split("\n"):
        if not unicodedata.is_normalized("NFC", line):
            for start, end, width in _changed(line):
                widths[first + start : first + end] = 0
                widths[first + start] = width
        first += len(line) + 1
    return np.append(0, np.cumsum(widths))


def _changed(line: str) -> list[tuple[int, int, int]]:
    """Ranges of a line that composition changes, and their lengths then.

    Notes
    -----
    What a reader sees as one sign composes by itself (Unicode annexes 15 and 29); a line in which it does not is
    one range.
    """
    whole = len(unicodedata.normalize("NFC", line))
    found = []
    length = 0
    for match in _CLUSTER.finditer(line):
        composed = unicodedata.normalize("NFC", match[0])
        length += len(composed)
        if composed != match[0]:
            found += [(match.start() + first, match.start() + last, width) for first, last, width in _parts(match[0])]
    return found if length == whole else [(0, len(line), whole)]


def _parts(cluster: str) -> list[tuple[int, int, int]]:
    """The least parts of a sign that compose by themselves, and their lengths then."""
    composed = unicodedata.normalize("NFC", cluster)
    cuts = [0, len(cluster)]
    if len(cluster) <= _LONGEST:
        inside = range(1, len(cluster))
        halves = ((unicodedata.normalize("NFC", cluster[:cut]), cut) for cut in inside)
        cuts[1:1] = [cut for left, cut in halves if left + unicodedata.normalize("NFC", cluster[cut:]) == composed]
    return [(first, last, len(unicodedata.normalize("NFC", cluster[first:last]))) for first, last in pairwise(cuts)]
