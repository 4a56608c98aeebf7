"""What is counted when a chunk is measured: characters, words or encoder tokens."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import regex
from numpy.typing import NDArray

Offsets = NDArray[np.int64]
_WORD = regex.compile(r"[\p{Han}\p{Hiragana}\p{Katakana}]\p{M}*|[\S--[\p{Han}\p{Hiragana}\p{Katakana}]]+", regex.V1)


@dataclass(frozen=True)
class Units:
    """Ranges `[starts[i], ends[i])` of a text in order, without overlap; what lies between is not counted."""

    starts: Offsets
    ends: Offsets

    def count(self, start: NDArray[np.int64], end: NDArray[np.int64]) -> NDArray[np.int64]:
        """How many units begin in each range."""
        return np.searchsorted(self.starts, end) - np.searchsorted(self.starts, start)


class TokenOffsets(Protocol):
    """What chunking needs to know of an encoder."""

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        """Tokens of whole texts, nothing cut off, special tokens left out."""


def characters(text: str) -> Units:
    """Every code point."""
    starts = np.arange(len(text), dtype=np.int64)
    return Units(starts, starts + 1)


def words(text: str) -> Units:
    """Runs without white space; in scripts written without spaces, each ideograph or syllable."""
    bounds = np.asarray([match.span() for match in _WORD.finditer(text)], dtype=np.int64).reshape(-1, 2)
    return Units(np.ascontiguousarray(bounds[:, 0]), np.ascontiguousarray(bounds[:, 1]))
