"""Labelled questions: where in the documents their answers stand."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.question.reading import NOTHING_BESIDE, Beside


@dataclass(frozen=True)
class Span:
    """An answer: `[start, end)` of a document, with its grade; without offsets the document is the answer."""

    document: str
    start: int | None
    end: int | None
    grade: float = 1.0


@dataclass(frozen=True)
class Question:
    """A labelled question; one without spans has been marked as unanswerable.

    rejected : ranges in which somebody looked and found no answer
    group : questions of one group are the same in other words; empty where it stands alone
    only : conditions that belong to it: what does not meet them is not found for it; see `question.conditions`
    picture : a picture that it is asked by, PNG or JPEG; None where there is none
    share : what that counts beside its words, 0 to 1
    """

    id: str
    text: str
    spans: tuple[Span, ...] = ()
    tags: tuple[str, ...] = ()
    rejected: tuple[Span, ...] = ()
    group: str = ""
    only: str = ""
    picture: bytes | None = field(default=None, repr=False)
    share: float = 0.5

    @property
    def beside(self) -> Beside:
        """What belongs to it besides its words."""
        if not self.only and self.picture is None:
            return NOTHING_BESIDE
        return Beside(conditions=self.only, picture=self.picture, share=self.share)

    @property
    def answerable(self) -> bool:
        return bool(self.spans)


class Worded(Protocol):
    """Whatever a question is kept as."""

    @property
    def id(self) -> Any: ...
    @property
    def group(self) -> str: ...


def wording_groups(questions: Sequence[Worded]) -> NDArray[np.int64]:
    """(q,) int64, the same for questions that are one in other words."""
    # One that stands alone has a name that no group has.
    names = [("group", one.group) if one.group else ("question", one.id) for one in questions]
    numbers = {name: place for place, name in enumerate(dict.fromkeys(names))}
    return np.array([numbers[name] for name in names], np.int64)


def merged(spans: Iterable[Span]) -> tuple[Span, ...]:
    """What counts as one answer: spans of a document that overlap are one, of the highest of their grades.

    Notes
    -----
    A document that is labelled as a whole counts once, and not at all where spans with offsets say where in it the
    answers stand. Spans that only touch stay two. The order is that of each answer's first span.
    """
    every = list(spans)
    placed = {span.document for span in every if span.start is not None}
    answers: list[Span] = []
    for span in every:
        if span.start is None and span.document in placed:
            continue
        alike = [other for other in answers if _overlap(span, other)]
        for other in alike:
            span = _joined(span, other)
        at = answers.index(alike[0]) if alike else len(answers)
        answers = (
            [other for other in answers[:at] if other not in alike]
            + [span]
            + [other for other in answers[at:] if other not in alike]
        )
    return tuple(answers)


def _overlap(one: Span, other: Span) -> bool:
    if one.document != other.document:
        return False
    if one.start is None or one.end is None or other.start is None or other.end is None:
        return True
    return one.start < other.end and other.start < one.end


def _joined(one: Span, other: Span) -> Span:
    grade = max(one.grade, other.grade)
    if one.start is None or one.end is None or other.start is None or other.end is None:
        return replace(one, grade=grade)
    return Span(one.document, min(one.start, other.start), max(one.end, other.end), grade)
