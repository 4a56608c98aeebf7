"""Questions by what they have in common: tags, the document of the answer, their length, their set."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from doppio.core.measure.comparing import Floats
from doppio.questions.models import Question

# Words of a question, up to which it is one of a kind.
LENGTHS = ((4, "1 to 4 words"), (8, "5 to 8 words"), (12, "9 to 12 words"), (10**6, "13 words or more"))
TAG, DOCUMENT, LENGTH, SET = "tag", "document", "length", "set"


@dataclass(frozen=True)
class Share:
    """Questions of one kind under two recipes: their means, and on how many the second is better or worse."""

    kind: str
    name: str
    questions: int
    before: float
    after: float
    wins: int
    losses: int


def breakdown(questions: Sequence[Question], before: Floats, after: Floats) -> list[Share]:
    """Compare two recipes kind by kind.

    Parameters
    ----------
    questions : with their sets, and their labels with documents, fetched
    before, after : (q,) float64, larger is better; NaN where there is no figure

    Returns
    -------
    list of Share
        By kind; of each the largest change first.
    """
    known = ~(np.isnan(before) | np.isnan(after))
    members: dict[tuple[str, str], list[int]] = {}
    for row, question in enumerate(questions):
        if known[row]:
            for own in _kinds(question):
                members.setdefault(own, []).append(row)
    found = []
    for (what, name), rows in members.items():
        one, other = before[rows], after[rows]
        found.append(
            Share(what, name, len(rows), float(one.mean()), float(other.mean()), int((other > one).sum()),
                  int((other < one).sum()))
        )  # fmt: skip
    order = {kind: place for place, kind in enumerate((TAG, DOCUMENT, LENGTH, SET))}
    return sorted(found, key=lambda one: (order[one.kind], -abs(one.after - one.before) * one.questions, one.name))


def _kinds(question: Question) -> Iterator[tuple[str, str]]:
    yield from ((TAG, tag) for tag in question.tags)
    names = {span.document.name if span.document else span.document_name for span in question.spans.all()}
    yield from ((DOCUMENT, name) for name in sorted(names))
    words = len(question.text.split())
    yield LENGTH, next(name for most, name in LENGTHS if words <= most)
    yield SET, question.set.name
