"""What a rule of suggestion is: it reads questions off a document, each with the range that answers it."""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import zip_longest
from typing import Protocol

import regex

from doppio.core.kinds import Family, Kind
from doppio.core.text.document import Document
from doppio.core.text.sentences import sentences_of

_MARK = regex.compile(r"(?:[-*+•]|\d{1,3}[.)])\s+")
LONGEST_QUESTION, LONGEST_ANSWER = 160, 700
Range = tuple[int, int]


@dataclass(frozen=True)
class Suggestion:
    """A question that a document seems to answer.

    rule : name of the rule that read it
    start, end : the range that answers it
    """

    rule: str
    text: str
    start: int
    end: int


class SuggestionRule(Kind, Protocol):
    """A rule; its module holds one as `KIND`."""

    @property
    def help(self) -> str: ...

    def suggest(self, document: Document) -> Iterable[tuple[str, int, int]]:
        """Questions with the ranges that answer them, in the order of the text."""


SUGGESTIONS: Family[SuggestionRule] = Family("suggestions", "doppio.core.suggest", SuggestionRule)


def suggestions(document: Document) -> list[Suggestion]:
    """All that the rules read off a document: one of each rule in turn, no question twice.

    Notes
    -----
    Questions of more than 160 and answers of more than 700 characters are left out: nobody asks or marks such.
    """
    found = []
    for rule in SUGGESTIONS:
        read = (Suggestion(rule.name, tidy(text), start, end) for text, start, end in rule.suggest(document))
        found.append([one for one in read if _good(one)])
    seen: set[str] = set()
    result = []
    for turn in zip_longest(*found):
        for one in turn:
            if one is not None and one.text.casefold() not in seen:
                seen.add(one.text.casefold())
                result.append(one)
    return result


def sentences(document: Document) -> Iterator[Range]:
    """Sentences of running text: no headings, rows or code."""
    prose = [(block.start, block.end) for block in document.blocks if block.kind in ("paragraph", "item")]
    place = 0
    for start, end in zip(*(bounds.tolist() for bounds in sentences_of(document)), strict=True):
        while place < len(prose) and prose[place][1] <= start:
            place += 1
        if place < len(prose) and prose[place][0] <= start:
            # A list item without its mark.
            mark = _MARK.match(document.text, start, end) if prose[place][0] == start else None
            yield mark.end() if mark else start, min(end, prose[place][1])


def tidy(text: str) -> str:
    """A question in one line, with one question mark."""
    return " ".join(text.split()).rstrip(" ?.:;,") + "?"


def lowered(text: str) -> str:
    """A phrase as it stands within a sentence: its first letter small, unless the word is a name or a code."""
    first = text.split(" ", 1)[0]
    return text[:1].lower() + text[1:] if first[1:].islower() or first in ("A", "I") else text


def _good(one: Suggestion) -> bool:
    return (
        8 <= len(one.text) <= LONGEST_QUESTION
        and 0 < one.end - one.start <= LONGEST_ANSWER
        and any(sign.isalpha() for sign in one.text)
    )
