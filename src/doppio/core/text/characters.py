"""What each character of a text is, as one byte: the base of fast scans over long texts."""

from functools import lru_cache

import numpy as np
import regex
from numpy.typing import NDArray

OTHER, SPACE, IDEOGRAPH, MARK, STOP, WIDE_STOP, CLOSER, UPPER, LOWER, DIGIT, LETTER, NEWLINE = range(12)
_PATTERNS = (
    (LETTER, r"\p{L}"),
    (DIGIT, r"\p{N}"),
    (UPPER, r"[\p{Lu}\p{Lt}]"),
    (LOWER, r"\p{Ll}"),
    (MARK, r"\p{M}"),
    (IDEOGRAPH, r"[\p{Han}\p{Hiragana}\p{Katakana}]"),
    (SPACE, r"\s"),
    (CLOSER, r"[\p{Pe}\p{Pf}\"'»”’]"),
    (STOP, r"[.!?…؟۔।]"),
    (WIDE_STOP, r"[。！？｡]"),
    (NEWLINE, r"\n"),
)


def code_points(text: str) -> NDArray[np.uint32]:
    """Code points of a text: (n,) uint32."""
    return np.frombuffer(text.encode("utf-32-le", "surrogatepass"), np.uint32)


@lru_cache(maxsize=4)
def classes(text: str) -> NDArray[np.uint8]:
    """Class of every character of a text: (n,) uint8, one of the constants of this module; not to be written to."""
    return _table()[code_points(text)]


@lru_cache(maxsize=1)
def _table() -> NDArray[np.uint8]:
    table = np.zeros(0x110000, np.uint8)
    everything = "".join(map(chr, [*range(0xD800), *range(0xE000, 0x110000)]))
    for name, pattern in _PATTERNS:
        for match in regex.finditer(f"(?:{pattern})+", everything):
            first = ord(match[0][0])
            # A run never crosses the gap of the surrogates: no class holds both of its neighbours.
            table[first : first + len(match[0])] = name
    return table
