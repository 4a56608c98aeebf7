"""Where a text is quoted, though white space and typographic marks may be written otherwise."""

from functools import lru_cache
from itertools import accumulate

import numpy as np
import regex

from doppio.core.text.canonical import canonical

# What is written in several ways, and the one that stands for all.
_ALIKE = {"'": "’‘‚‛′ʼ`´", '"': "“”„‟«»″", "-": "‐‑‒–—―−", "...": "…"}
_TO = {sign: plain for plain, signs in _ALIKE.items() for sign in signs}
# Soft hyphens and joiners, which stand for nothing.
_NOTHING = "\u00ad\u200b\u200c\u200d\u2060\ufeff"
_TABLE = str.maketrans({**_TO, **dict.fromkeys(_NOTHING)})
_FOLDED = regex.compile(rf"[\s{_NOTHING}]+|[{regex.escape(''.join(_TO))}]")


class Folded:
    """A text in which quotes are looked for; made once, however many there are."""

    def __init__(self, text: str) -> None:
        self._length = len(text)
        matches = list(_FOLDED.finditer(text))
        parts: list[str] = []
        # Starts of the pieces in the folded text and in the text: kept stretches move as a whole.
        starts: list[int] = []
        reached = 0
        for match in matches:
            parts += [text[reached : match.start()], _plain(match[0])]
            starts += [reached, match.start()]
            reached = match.end()
        parts.append(text[reached:])
        starts.append(reached)
        self.text = "".join(parts)
        self._at = np.fromiter(accumulate((len(part) for part in parts[:-1]), initial=0), np.int64, len(parts))
        self._from = np.array(starts, np.int64)
        self._ends = np.append(self._from[1:], self._length)

    def places(self, quote: str) -> list[tuple[int, int]]:
        """All ranges of the text that hold the quote, in order; none of them overlap."""
        wanted = " ".join(canonical(quote).translate(_TABLE).split())
        if not wanted:
            return []
        found = []
        at = self.text.find(wanted)
        while at >= 0:
            found.append((self._back(at), self._back(at + len(wanted) - 1) + 1))
            at = self.text.find(wanted, at + len(wanted))
        return found

    def _back(self, at: int) -> int:
        """Where a character of the folded text stands in the text: the last of its piece where it stands for more."""
        piece = int(np.searchsorted(self._at, at, side="right")) - 1
        moved = int(self._from[piece]) + at - int(self._at[piece])
        return min(moved, int(self._ends[piece]) - 1)


@lru_cache(maxsize=16)
def _folded(text: str) -> Folded:
    return Folded(text)


def find_quote(text: str, quote: str) -> list[tuple[int, int]]:
    """All ranges of a text that hold a quote, white space and typographic marks folded; see `Folded.places`."""
    return _folded(text).places(quote)


def _plain(found: str) -> str:
    return _TO.get(found) or (" " if found.strip(_NOTHING) else "")
