"""A document changed: where does an answer stand now? Labels move by what they quote."""

from collections import Counter
from dataclasses import dataclass

from doppio.core.text.quotes import find_quote
from doppio.core.text.units import folded_words, words

AROUND = 120
ALIKE = 0.5


@dataclass(frozen=True)
class Suggestion:
    """The stretch of a text that has most words in common with a quote; `alike` is 0 to 1."""

    start: int
    end: int
    alike: float


def place_again(before: str, start: int, end: int, now: str) -> tuple[int, int] | None:
    """Find the range `[start, end)` of an old text in a new one.

    Returns
    -------
    The new range; None where the quote is gone, or stands in several places whose surroundings do not tell which.

    Notes
    -----
    White space of any length matches any other. Of several places the one is taken around which most of the old
    surroundings still stand.
    """
    found = find_quote(now, before[start:end])
    if len(found) < 2:
        return found[0] if found else None
    scores = [
        _common(before[max(start - AROUND, 0) : start][::-1], now[max(low - AROUND, 0) : low][::-1])
        + _common(before[end : end + AROUND], now[high : high + AROUND])
        for low, high in found
    ]
    best = max(scores)
    return found[scores.index(best)] if scores.count(best) == 1 else None


def closest(now: str, quote: str) -> Suggestion | None:
    """The stretch of a text that is most like a quote, for a person to look at; None where nothing is alike."""
    wanted = Counter(folded_words(quote))
    size = wanted.total()
    units = words(now)
    terms = folded_words(now)
    if not size or not terms:
        return None
    held: Counter[str] = Counter()
    common = best = best_at = 0
    for at, term in enumerate(terms):
        common += held[term] < wanted[term]
        held[term] += 1
        if at >= size:
            gone = terms[at - size]
            held[gone] -= 1
            common -= held[gone] < wanted[gone]
        if common > best:
            best, best_at = common, at
    if best < ALIKE * size:
        return None
    first = max(best_at - size + 1, 0)
    while first < best_at and wanted[terms[first]] == 0:
        first += 1
    return Suggestion(int(units.starts[first]), int(units.ends[best_at]), best / size)


def _common(one: str, other: str) -> int:
    """Length of the common beginning, white space apart."""
    count = 0
    for left, right in zip("".join(one.split()), "".join(other.split()), strict=False):
        if left != right:
            break
        count += 1
    return count
