"""Words of scripts that put no space between them: Thai, Lao, Khmer, Burmese.

Word bounds are those of Unicode annex 29, with the dictionaries of ICU for these scripts.
"""

from collections.abc import Iterator

import regex
from icu4py.breakers import WordBreaker

UNSPACED = regex.compile(r"[\p{Thai}\p{Lao}\p{Khmer}\p{Myanmar}]")


def unspaced_words(text: str) -> Iterator[tuple[int, str]]:
    """Words of a text and where each begins, in code points; a word holds a letter or a digit."""
    at = 0
    for piece in WordBreaker(text, "root"):
        if any(sign.isalnum() for sign in piece):
            yield at, piece
        at += len(piece)
