"""Which terms of a text does the sparse index see?

Unicode normalisation, case folding, words, codes kept whole as well as in parts, stop words, stems.
"""

import unicodedata
from dataclasses import dataclass
from functools import lru_cache

import regex
import snowballstemmer

STOP_WORDS = frozenset(
    """a about above after again all also am an and any are as at be been before being below between both but
    by can could did do does doing down during each few for from further had has have having he her here hers
    him his how i if in into is it its itself just may me might more most must my no nor not of off on once
    only or other our out over own same shall she should so some such than that the their them then there
    these they this those through to too under until up very was we were what when where which while who whom
    why will with would you your""".split()
)
_TOKEN = regex.compile(
    r"[\p{L}\p{N}]+(?:[._+@:/&#%-]+[\p{L}\p{N}]+)+"
    r"|[\p{Han}\p{Hiragana}\p{Katakana}]"
    r"|[[\p{L}\p{N}\p{M}]--[\p{Han}\p{Hiragana}\p{Katakana}]]+(?:['’][\p{L}]+)?",
    regex.V1,
)
_PART = regex.compile(r"[\p{L}\p{N}\p{M}]+")
_MARKS = regex.compile(r"[._+@:/&#%-]+")


@dataclass(frozen=True)
class Term:
    """One term and the range of the original text that it comes from."""

    text: str
    start: int
    end: int


@dataclass(frozen=True)
class Analysis:
    """Settings of the analysis: `language` "en"; stems, stop words and codes can be switched off."""

    language: str = "en"
    stem: bool = True
    stop_words: bool = True
    keep_codes: bool = True

    def terms(self, text: str) -> list[Term]:
        """Terms in the order of the text.

        Notes
        -----
        A code is a run of letters and digits joined by one of `. _ + @ : / & # % -` that holds a digit or
        an `@`. With `keep_codes` it yields itself whole (`e-417`), itself without its joints (`e417`, so
        that either spelling finds the other) and its parts; joined words without a digit yield parts only.
        """
        found: list[Term] = []
        for match in _TOKEN.finditer(text):
            raw, start, end = match[0], match.start(), match.end()
            if _MARKS.search(raw):
                if self.keep_codes and (any(sign.isdigit() for sign in raw) or "@" in raw):
                    whole = _fold(raw)
                    found.append(Term(whole, start, end))
                    joined = _MARKS.sub("", whole)
                    if any(sign.isalpha() for sign in joined) and "@" not in whole:
                        found.append(Term(joined, start, end))
                for part in _PART.finditer(raw):
                    self._word(found, part[0], start + part.start(), start + part.end())
            else:
                self._word(found, raw, start, end)
        return found

    def _word(self, found: list[Term], raw: str, start: int, end: int) -> None:
        word = _fold(raw)
        if word.endswith(("'s", "’s")):
            word = word[:-2]
        if self.stop_words and word in STOP_WORDS:
            return
        found.append(Term(_stem(word) if self.stem else word, start, end))


@lru_cache(maxsize=200_000)
def _fold(raw: str) -> str:
    return unicodedata.normalize("NFKC", raw).casefold()


@lru_cache(maxsize=200_000)
def _stem(word: str) -> str:
    stem: str = snowballstemmer.stemmer("english").stemWord(word)
    return stem
