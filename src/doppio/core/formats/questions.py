"""Labelled questions from JSONL; quotes become offsets."""

import base64
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from doppio.core.errors import DocumentError, QuestionError
from doppio.core.formats.documents import json_lines
from doppio.core.measure.questions import Question, Span
from doppio.core.question.conditions import ConditionError, read_conditions
from doppio.core.text.canonical import canonical
from doppio.core.text.document import Document
from doppio.core.text.given import given_length, moved
from doppio.core.text.quotes import find_quote

_KEYS = {"id", "text", "tags", "group", "answers", "unanswerable", "only", "picture", "share"}
_ANSWER_KEYS = {"document", "start", "end", "quote", "grade"}


class WrongField(QuestionError):
    """A field of a question is wrong; says which and why, and whoever knows the file says where."""

    def __init__(self, field: str, message: str) -> None:
        super().__init__(f"{field}: {message}")
        self.field, self.message = field, message


@dataclass(frozen=True)
class GivenLabel:
    """A label as a file has it: a quote, offsets on the text as it was given, or the whole document.

    field : where it stands within its line
    canonical : whether the offsets are those of the canonical text
    """

    field: str
    document: str
    start: int | None = None
    end: int | None = None
    quote: str | None = None
    grade: float = 1.0
    canonical: bool = False

    def part(self, name: str, column: str = "") -> str:
        """The field that is wrong when a part of the label is: within its object, or a column."""
        return f"{self.field}.{name}" if self.field.endswith("]") else column or self.field


@dataclass(frozen=True)
class GivenQuestion:
    """A question as a file has it; its labels are still to be looked up in their documents."""

    id: str
    text: str
    labels: tuple[GivenLabel, ...] = ()
    tags: tuple[str, ...] = ()
    group: str = ""
    unanswerable: bool = False
    only: str = ""
    picture: str = ""
    share: float = 0.5


def read_questions(path: Path, documents: Mapping[str, Document]) -> list[Question]:
    """Read labelled questions and check every label against its document.

    Parameters
    ----------
    path : Path
        JSONL: `{"id", "text", "tags": [...], "answers": [...]}`, or `"unanswerable": true` without answers; with
        `"only": "..."` where conditions belong to it, and with `"picture"`, PNG or JPEG in base64, and `"share"`,
        what it counts beside the words, 0 to 1 (0.5), where it is asked by a picture.
        An answer is `{"document", "start", "end", "grade"}`, `{"document", "quote", "grade"}` or
        `{"document", "grade"}`; the grade is 1 where it is left out, and 0 says that no answer stands there. Offsets
        count code points of the text as it was given, where the format carries text as it is (plain text, a field of
        JSONL or CSV).
    documents : mapping from id to Document

    Raises
    ------
    QuestionError
        Names the file, the line and what is wrong: an unknown document, a quote that is not in it or is in it
        more than once, offsets out of range, a missing field, an id that stands twice.
    """
    found: list[Question] = []
    seen: dict[str, int] = {}
    for number, record in json_lines(path, QuestionError):
        where = f"{path}, line {number}"
        try:
            given = question_of(record)
            if not given.labels and not given.unanswerable:
                raise WrongField("answers", 'missing; mark a question that has none with "unanswerable": true')
            if given.id in seen:
                raise WrongField("id", f"{given.id!r} stands in line {seen[given.id]} already")
            spans = [_only(label, documents) for label in given.labels]
        except WrongField as error:
            raise QuestionError(f"{where}: {error}") from error
        seen[given.id] = number
        right, wrong = (tuple(span for span in spans if (span.grade > 0) is kind) for kind in (True, False))
        found.append(Question(given.id, given.text, right, given.tags, wrong, given.group, given.only,
                              drawn(given.picture), given.share))  # fmt: skip
    if not found:
        raise QuestionError(f"{path}: holds no questions")
    return found


def question_of(record: Mapping[str, Any]) -> GivenQuestion:
    """A question from a JSON object.

    Raises
    ------
    WrongField
    """
    unknown = sorted(set(record) - _KEYS)
    if unknown:
        raise WrongField(unknown[0], f"unknown key; allowed are {', '.join(sorted(_KEYS))}")
    for key in ("id", "text"):
        if not isinstance(record.get(key), str) or not record[key].strip():
            raise WrongField(key, "missing, empty or not a text")
    tags = record.get("tags", [])
    if not isinstance(tags, list) or not all(isinstance(tag, str) for tag in tags):
        raise WrongField("tags", "not a list of texts")
    group = record.get("group", "")
    if not isinstance(group, str):
        raise WrongField("group", "not a text")
    answers = record.get("answers", [])
    if not isinstance(answers, list):
        raise WrongField("answers", "not a list")
    labels = tuple(_label(answer, f"answers[{place}]") for place, answer in enumerate(answers))
    unanswerable = record.get("unanswerable") is True
    if unanswerable and any(label.grade > 0 for label in labels):
        raise WrongField("answers", "must be empty where unanswerable is true")
    return GivenQuestion(
        canonical(record["id"]), canonical(record["text"]).strip(), labels, tuple(map(canonical, tags)),
        canonical(group), unanswerable, checked_only(record.get("only", ""), "only"),
        *_picture(record.get("picture", ""), record.get("share", 0.5)),
    )  # fmt: skip


def _picture(packed: Any, share: Any) -> tuple[str, float]:
    """The picture of a question as it was given, and what it counts.

    Raises
    ------
    WrongField
        If it is none, or one that is refused.
    """
    if not isinstance(packed, str):
        raise WrongField("picture", "not a text")
    if isinstance(share, bool) or not isinstance(share, int | float) or not 0 <= share <= 1:
        raise WrongField("share", f"{share!r} is not a number from 0 to 1")
    if packed:
        try:
            drawn(packed)
        except (ValueError, DocumentError) as error:
            raise WrongField("picture", f"not a picture in base64 ({error})") from error
    return packed, float(share)


def drawn(packed: str) -> bytes | None:
    """A picture in base64 as it is asked by: drawn anew, PNG or JPEG; None where there is none.

    Raises
    ------
    ValueError, DocumentError
        If it is no base64, or no picture.
    """
    if not packed:
        return None
    # Few questions have one.
    from doppio.core.formats.drawing import drawable

    return drawable(base64.b64decode(packed, validate=True), "picture").draw()


def checked_only(text: Any, field: str) -> str:
    """The conditions of a question, which can be read.

    Raises
    ------
    WrongField
    """
    if not isinstance(text, str):
        raise WrongField(field, "not a text")
    told = canonical(text).strip()
    try:
        read_conditions(told)
    except ConditionError as error:
        raise WrongField(field, str(error).removeprefix("conditions: ")) from error
    return told


def places(label: GivenLabel, document: Document) -> list[Span]:
    """Where a label stands in its document; several where its quote stands in several places.

    Raises
    ------
    WrongField
        If it stands nowhere.
    """
    if label.quote is not None:
        ranges = find_quote(document.text, label.quote)
        if not ranges:
            raise WrongField(label.part("quote"), f'"{shortened(label.quote)}" is not in {document.id}')
        return [Span(document.id, start, end, label.grade) for start, end in ranges]
    if label.start is None or label.end is None:
        return [Span(document.id, None, None, label.grade)]
    length = len(document.text) if label.canonical else given_length(document.given, document.text)
    if not 0 <= label.start < label.end <= length:
        raise _no_range(label.field, label.start, label.end, length, document.id)
    moves = () if label.canonical else document.given
    first, last = moved(moves, label.start), moved(moves, label.end)
    if first >= last:
        what = f"{label.start} to {label.end} of {document.id} holds nothing but control characters"
        raise WrongField(label.field, what)
    return [Span(document.id, first, last, label.grade)]


def _label(answer: Any, field: str) -> GivenLabel:
    if not isinstance(answer, dict):
        raise WrongField(field, "not an object")
    unknown = sorted(set(answer) - _ANSWER_KEYS)
    if unknown:
        raise WrongField(f"{field}.{unknown[0]}", f"unknown key; allowed are {', '.join(sorted(_ANSWER_KEYS))}")
    document = answer.get("document")
    if not isinstance(document, str):
        raise WrongField(f"{field}.document", f"{document!r} is not among the documents")
    grade = answer.get("grade", 1)
    if isinstance(grade, bool) or not isinstance(grade, int | float) or not 0 <= grade < math.inf:
        raise WrongField(f"{field}.grade", f"{grade!r} is not a finite number of 0 or more")
    if "quote" in answer and "start" not in answer:
        quote = answer["quote"]
        if not isinstance(quote, str) or not quote.strip():
            raise WrongField(f"{field}.quote", "empty or not a text")
        return GivenLabel(field, document, quote=quote, grade=float(grade))
    start, end = answer.get("start"), answer.get("end")
    if start is None and end is None:
        return GivenLabel(field, document, grade=float(grade))
    if type(start) is not int or type(end) is not int:
        raise _no_range(field, start, end, None, document)
    return GivenLabel(field, document, start, end, grade=float(grade))


def _only(label: GivenLabel, documents: Mapping[str, Document]) -> Span:
    document = documents.get(label.document)
    if document is None:
        raise WrongField(label.part("document"), f"{label.document!r} is not among the documents")
    found = places(label, document)
    if len(found) > 1:
        quoted = shortened(label.quote or "")
        raise WrongField(label.part("quote"), f'"{quoted}" is in {document.id} {len(found)} times; quote more of it')
    return found[0]


def _no_range(field: str, start: Any, end: Any, length: int | None, document: str) -> WrongField:
    within = f"within 0 to {length}, the length of {document}" if length is not None else f"of {document}"
    return WrongField(field, f"start {start!r} and end {end!r} are not a range {within}")


def shortened(quote: str) -> str:
    """A quote as messages show it."""
    return quote if len(quote) <= 60 else quote[:57] + "..."
