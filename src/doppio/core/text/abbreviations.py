"""What does a document itself say about its full stops? Abbreviations and ordinals, learned without a list.

References
----------
.. [1] T. Kiss, J. Strunk, "Unsupervised Multilingual Sentence Boundary Detection", Computational Linguistics 32(4),
   2006. The measure for abbreviations and the evidence of case are theirs. They learn from a corpus; here every
   document is its own, so that how it is cut depends on no other, and what is rare needs more than their measure:
   a word has to be met three times with its full stop, or once where the sentence goes on after it and never
   without it.
"""

import math
import re
from collections import Counter
from dataclasses import dataclass
from functools import lru_cache

import regex

# The standard library's expressions are three times as fast here, and letters with marks of their own are rare.
_WORD = re.compile(r"[^\W\d_]+(?:\.[^\W\d_]+)*\.?")
# After these full stops no sentence begins, whatever the word before is.
_GOES_ON = regex.compile(r"\.(?:[,;:]|[ \t]+[\p{Ll}\p{N}])")
_BEFORE = regex.compile(r"[\p{L}\p{M}.]+$")
_ORDINAL = regex.compile(r"(?<=\p{Ll}[ \t])\p{N}{1,2}\.[ \t]+(?=\p{Ll})")
_LEAST, _SURE, _OFTEN, _LONGEST = 0.3, 0.99, 3, 24


@dataclass(frozen=True)
class Habits:
    """How a text uses full stops and capitals; all words in lower case.

    abbreviations : words that are written with a full stop, the last one left out
    small : words that stand in lower case somewhere, so that their capital says that a sentence begins
    ordinals : whether a number with a full stop goes on in lower case
    """

    abbreviations: frozenset[str] = frozenset()
    small: frozenset[str] = frozenset()
    ordinals: bool = False


@lru_cache(maxsize=8)
def habits(text: str) -> Habits:
    """Learn from a text."""
    if "." not in text:
        return Habits()
    words = Counter(_WORD.findall(text))
    with_stop: Counter[str] = Counter()
    without: Counter[str] = Counter()
    small = set()
    for word, count in words.items():
        bare = word.removesuffix(".")
        folded = bare.lower()
        (without if bare == word else with_stop)[folded] += count
        if bare == folded:
            small.add(bare)
    every = sum(words.values())
    stops = sum(with_stop.values())
    goes_on = _before_what_goes_on(text)
    learned = frozenset(
        word
        for word, count in with_stop.items()
        if (word in goes_on and not without[word])
        or ((count >= _OFTEN or "." in word) and _likely(word, count, without[word], stops, every))
    )
    return Habits(learned, frozenset(small), _ORDINAL.search(text) is not None)


def _before_what_goes_on(text: str) -> set[str]:
    found = set()
    for match in _GOES_ON.finditer(text):
        word = _BEFORE.search(text[max(match.start() - _LONGEST, 0) : match.start()])
        if word:
            found.add(word[0].strip(".").lower())
    return found


def _likely(word: str, with_stop: int, without: int, stops: int, every: int) -> bool:
    """Whether a word is an abbreviation, by how it stands with its full stop, its length and its inner stops."""
    both, letters = with_stop + without, len(word.replace(".", ""))
    chance = min(max(stops / every, 1e-9), 1 - 1e-9)
    ratio = 2 * (_log(with_stop, both, _SURE) - _log(with_stop, both, chance))
    penalty = float(letters) ** -min(without, 300)
    return ratio * math.exp(-letters) * (word.count(".") + 1) * penalty >= _LEAST


def _log(met: int, of: int, chance: float) -> float:
    return met * math.log(chance) + (of - met) * math.log(1 - chance)
