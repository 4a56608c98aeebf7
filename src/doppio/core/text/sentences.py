"""Where does a sentence begin? Punctuation, less abbreviations, initials, decimals and list numbers."""

import numpy as np
import regex
from numba import njit
from numpy.typing import NDArray

from doppio.core.text import characters as c
from doppio.core.text.abbreviations import Habits, habits
from doppio.core.text.document import PAGE, Document

# These stand before something that belongs to them, so a sentence never ends with them.
_LEADING = frozenset(
    """e.g i.e cf vs approx ca dr mr mrs ms prof st mt sr jr gen col capt lt hon rev messrs mme mlle incl excl
    resp viz al bzw z.b d.h u.a usw evtl ggf bspw vgl т.е т.к т.д напр стр рис""".split()
)
# These stand before a number: "No. 4", "Fig. 2", "p. 12".
_BEFORE_NUMBER = frozenset(
    """no nos nr fig figs sec secs ch chap art arts para paras p pp vol ed eq tab ref tel ext max min abs ziff kap abb
    jan feb mar apr jun jul aug sep sept oct nov dec""".split()
)
# A number with a full stop before one of these is a day of it.
_MONTHS = frozenset(
    """januar jänner februar feber märz april mai juni juli august september oktober november dezember""".split()
)
_NEXT = regex.compile(r"[\p{L}\p{M}]+")
_LONGEST = max(map(len, _LEADING | _BEFORE_NUMBER)) + 1


def sentence_starts(text: str, known: Habits | None = None) -> NDArray[np.int64]:
    """Offsets at which a sentence begins, the first one left out: rising int64.

    Parameters
    ----------
    known : Habits, optional
        How the whole document uses full stops, where `text` is a part of it.

    Notes
    -----
    A sentence ends at a full stop, question mark, exclamation mark or ellipsis, with the quotes and brackets that
    close after it, before white space; at the stops of Chinese and Japanese without any; and at a blank line. No
    full stop ends one after an abbreviation, a single initial, or the number of a list item, nor before a
    lower-case word. Abbreviations are a few of many languages, and what the text shows to be one (see
    `abbreviations.habits`); after one of the latter a sentence begins with a word that is written small elsewhere.
    """
    kinds = c.classes(text)
    stops, befores, nexts = _candidates(kinds)
    kept = np.ones(len(stops), bool)
    looked = np.flatnonzero(befores >= 0)
    if len(looked):
        known = known or habits(text)
        for place in looked.tolist():
            stop, before, follows = int(stops[place]), int(befores[place]), int(nexts[place])
            kept[place] = _ends(text, kinds, before, stop, follows, known)
    return np.asarray(nexts[kept])


def sentences_of(document: Document) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Starts and ends of a document's sentences, without the white space between them.

    Notes
    -----
    Every block begins a sentence: a heading, a list item and a table row are each at least one.
    """
    text = document.text
    blocks = np.array([block.start for block in document.blocks if block.kind != PAGE], np.int64)
    starts = np.unique(np.concatenate([np.zeros(1, np.int64), sentence_starts(text, document.habits), blocks]))
    starts = starts[starts < len(text)]
    first, last = without_blanks(c.classes(text), starts, np.append(starts[1:], len(text)).astype(np.int64))
    return first, last


def _ends(text: str, kinds: NDArray[np.uint8], before: int, stop: int, follows: int, known: Habits) -> bool:
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
    if stop - before == 1 and (kinds[before] == c.UPPER or _letter_before(text, kinds, before)):
        return False
    if len(word) == 1 and _letter_follows(text, kinds, follows):
        return False
    after = _NEXT.match(text, follows)
    next_one = after[0].lower() if after else ""
    if word.isdigit():
        return not (
            len(word) <= 2
            and (next_one in _MONTHS or (known.ordinals and _ordinal(text, kinds, before, next_one, known)))
        )
    return word not in known.abbreviations or next_one in known.small


def _ordinal(text: str, kinds: NDArray[np.uint8], before: int, next_one: str, known: Habits) -> bool:
    """Whether a number between a word in lower case and one that is never written so counts what follows it."""
    return bool(
        before > 1 and text[before - 1] == " " and kinds[before - 2] == c.LOWER and next_one not in known.small
    )


def _letter_before(text: str, kinds: NDArray[np.uint8], before: int) -> bool:
    """Whether a single letter with a full stop stands before: the B of `z. B.`"""
    at = before - 1
    while at > 0 and kinds[at] == c.SPACE:
        at -= 1
    return bool(at > 0 and text[at] == "." and _alone(kinds, at - 1))


def _letter_follows(text: str, kinds: NDArray[np.uint8], follows: int) -> bool:
    """Whether a single letter with a full stop follows: the z of `z. B.`"""
    return bool(follows + 1 < len(text) and text[follows + 1] == "." and _alone(kinds, follows))


def _alone(kinds: NDArray[np.uint8], at: int) -> bool:
    """Whether a character is a letter with none before it."""
    letters = (c.UPPER, c.LOWER, c.LETTER)
    return kinds[at] in letters and (at == 0 or kinds[at - 1] not in (*letters, c.DIGIT, c.MARK))


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
