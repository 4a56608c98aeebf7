"""Where does a sentence begin? Punctuation, less abbreviations, initials, decimals and list numbers."""

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.text import characters as c
from doppio.core.text.document import PAGE, Document

# These stand before something that belongs to them, so a sentence never ends with them.
_LEADING = frozenset(
    """e.g i.e cf vs approx ca dr mr mrs ms prof st mt sr jr gen col capt lt hon rev messrs mme mlle incl excl
    resp viz al bzw z.b d.h u.a usw evtl ggf bspw т.е т.к т.д напр стр рис""".split()
)
# These stand before a number: "No. 4", "Fig. 2", "p. 12".
_BEFORE_NUMBER = frozenset(
    """no nos nr fig figs sec secs ch chap art arts para paras p pp vol ed eq tab ref tel ext max min
    jan feb mar apr jun jul aug sep sept oct nov dec""".split()
)
_LONGEST = max(map(len, _LEADING | _BEFORE_NUMBER)) + 1


def sentence_starts(text: str) -> NDArray[np.int64]:
    """Offsets at which a sentence begins, the first one left out: rising int64.

    Notes
    -----
    A sentence ends at a full stop, question mark, exclamation mark or ellipsis, with the quotes and brackets that
    close after it, before white space; at the stops of Chinese and Japanese without any; and at a blank line. No
    full stop ends one after an abbreviation, a single initial, or the number of a list item, nor before a
    lower-case word.
    """
    kinds = c.classes(text)
    stops, befores, nexts = _candidates(kinds)
    kept = np.ones(len(stops), bool)
    for place in np.flatnonzero(befores >= 0).tolist():
        stop, before, follows = int(stops[place]), int(befores[place]), int(nexts[place])
        kept[place] = _ends(text, kinds, before, stop, follows)
    return np.asarray(nexts[kept])


def sentences_of(document: Document) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Starts and ends of a document's sentences, without the white space between them.

    Notes
    -----
    Every block begins a sentence: a heading, a list item and a table row are each at least one.
    """
    text = document.text
    blocks = np.array([block.start for block in document.blocks if block.kind != PAGE], np.int64)
    starts = np.unique(np.concatenate([np.zeros(1, np.int64), sentence_starts(text), blocks]))
    starts = starts[starts < len(text)]
    first, last = without_blanks(c.classes(text), starts, np.append(starts[1:], len(text)).astype(np.int64))
    return first, last


def _ends(text: str, kinds: NDArray[np.uint8], before: int, stop: int, follows: int) -> bool:
    """Whether the full stop at `stop`, after the word from `before`, ends a sentence; `follows` begins the next."""
    word = text[max(before, stop - _LONGEST) : stop].lower()
    kind = kinds[follows]
    if word in _LEADING or kind == c.LOWER:
        return False
    if word in _BEFORE_NUMBER:
        return bool(kind != c.DIGIT)
    line_begins = before == 0 or text[before - 1] in "\n"
    if line_begins and (word.isdigit() or len(word) == 1):
        return False
    return not (stop - before == 1 and kinds[before] == c.UPPER)


@njit(cache=True, nogil=True)
def _candidates(kinds: NDArray[np.uint8]) -> tuple[NDArray, NDArray, NDArray]:
    """Where sentences may end: the last stop, the start of the word before it (-1 where it needs no look) and
    the first character of what follows."""
    count = kinds.size
    room = 1
    for at in range(count):
        if kinds[at] == c.STOP or kinds[at] == c.WIDE_STOP or kinds[at] == c.NEWLINE:
            room += 1
    stops = np.empty(room, np.int64)
    befores = np.empty(room, np.int64)
    nexts = np.empty(room, np.int64)
    found = 0
    at = 0
    while at < count:
        kind = kinds[at]
        if kind == c.NEWLINE:
            ends = 0
            after = at
            while after < count and (kinds[after] == c.SPACE or kinds[after] == c.NEWLINE):
                ends += kinds[after] == c.NEWLINE
                after += 1
            if ends > 1 and after < count and at > 0 and (found == 0 or nexts[found - 1] < after):
                stops[found], befores[found], nexts[found] = at, -1, after
                found += 1
            at = after
            continue
        if kind != c.STOP and kind != c.WIDE_STOP:
            at += 1
            continue
        first = at
        wide = False
        while at < count and (kinds[at] == c.STOP or kinds[at] == c.WIDE_STOP):
            wide = wide or kinds[at] == c.WIDE_STOP
            at += 1
        last = at - 1
        after = at
        while after < count and kinds[after] == c.CLOSER:
            after += 1
        follows = after
        blank = 0
        while follows < count and (kinds[follows] == c.SPACE or kinds[follows] == c.NEWLINE):
            blank += kinds[follows] == c.NEWLINE
            follows += 1
        if follows >= count or (follows == after and not wide):
            continue
        before = first
        while before > 0 and (
            (kinds[before - 1] >= c.UPPER and kinds[before - 1] <= c.LETTER)
            or kinds[before - 1] == c.MARK
            or (kinds[before - 1] == c.STOP and before > 1 and kinds[before - 2] != c.STOP)
        ):
            before -= 1
        looked = not wide and blank < 2
        lower = looked and kinds[follows] == c.LOWER
        if lower:
            at = follows
            continue
        stops[found], befores[found], nexts[found] = last, before if looked and last == first else -1, follows
        found += 1
        at = follows
    return stops[:found].copy(), befores[:found].copy(), nexts[:found].copy()


@njit(cache=True, nogil=True)
def without_blanks(kinds: NDArray, starts: NDArray, ends: NDArray) -> tuple[NDArray, NDArray]:
    """Ranges less the white space at both of their ends; those that are blank are left out."""
    firsts = np.empty(starts.size, np.int64)
    lasts = np.empty(starts.size, np.int64)
    found = 0
    for row in range(starts.size):
        first, last = starts[row], ends[row]
        while first < last and (kinds[first] == c.SPACE or kinds[first] == c.NEWLINE):
            first += 1
        while last > first and (kinds[last - 1] == c.SPACE or kinds[last - 1] == c.NEWLINE):
            last -= 1
        if first < last:
            firsts[found], lasts[found] = first, last
            found += 1
    return firsts[:found], lasts[:found]
