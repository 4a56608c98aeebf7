"""What is counted when a chunk is measured: characters, words or encoder tokens."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import regex
from numba import njit
from numpy.typing import NDArray

from doppio.core.text import characters as c

Offsets = NDArray[np.int64]
_SIGN = regex.compile(r"\X")
# A text without these has one sign a code point.
_JOINS = regex.compile(r"[^\p{Grapheme_Cluster_Break=Other}\p{Grapheme_Cluster_Break=Control}\n]", regex.V1)


@dataclass(frozen=True)
class Units:
    """Ranges `[starts[i], ends[i])` of a text in order, without overlap; what lies between is not counted."""

    starts: Offsets
    ends: Offsets

    def count(self, start: NDArray[np.int64], end: NDArray[np.int64]) -> NDArray[np.int64]:
        """How many units begin in each range."""
        return np.searchsorted(self.starts, end) - np.searchsorted(self.starts, start)

    def within(self, start: int, end: int) -> "Units":
        """The units that begin in a range, with offsets from its start; one that leaves it is cut off there."""
        low, high = np.searchsorted(self.starts, [start, end])
        return Units(self.starts[low:high] - start, np.minimum(self.ends[low:high], end) - start)


class TokenOffsets(Protocol):
    """What chunking needs to know of an encoder."""

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        """Tokens of whole texts, nothing cut off, special tokens left out."""

    def token_counts(self, texts: Sequence[str]) -> NDArray[np.int64]:
        """How many tokens these are, of each text: (n,) int64."""


class SentenceVectors(Protocol):
    """Texts to unit vectors, for rules that compare sentences by meaning."""

    def vectors(self, texts: Sequence[str]) -> NDArray[np.float32]:
        """(n, d) float32, in the order given."""


def characters(text: str) -> Units:
    """Every sign as a reader sees it: a letter with its marks, a flag, a family (Unicode annex 29)."""
    if _JOINS.search(text):
        bounds = np.array([0, *(match.end() for match in _SIGN.finditer(text))], np.int64)
    else:
        bounds = np.arange(len(text) + 1, dtype=np.int64)
    return Units(bounds[:-1], bounds[1:])


def words(text: str) -> Units:
    """Runs without white space; in scripts written without spaces, each ideograph or syllable with its marks."""
    return Units(*_words(c.classes(text)))


def folded_words(text: str) -> list[str]:
    """The words of a text without case and without the punctuation around them, in order; some may be empty."""
    units = words(text)
    return [
        text[start:end].casefold().strip(".,;:!?\"'()")
        for start, end in zip(units.starts.tolist(), units.ends.tolist(), strict=True)
    ]


@njit(cache=True, nogil=True)
def _words(kinds: NDArray[np.uint8]) -> tuple[Offsets, Offsets]:
    starts = np.empty(kinds.size, np.int64)
    ends = np.empty(kinds.size, np.int64)
    found = 0
    inside = 0  # 1 in a word, 2 after an ideograph
    for at in range(kinds.size):
        kind = kinds[at]
        if kind == c.SPACE or kind == c.NEWLINE:
            inside = 0
        elif kind == c.IDEOGRAPH:
            starts[found], ends[found] = at, at + 1
            found += 1
            inside = 2
        elif inside == 1 or (inside == 2 and kind == c.MARK):
            ends[found - 1] = at + 1
        else:
            starts[found], ends[found] = at, at + 1
            found += 1
            inside = 1
    return starts[:found].copy(), ends[:found].copy()
