"""Labelled questions from JSONL; quotes become offsets."""

import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import regex

from doppio.core.errors import QuestionError
from doppio.core.formats.documents import json_lines
from doppio.core.measure.questions import Question, Span
from doppio.core.text.canonical import canonical
from doppio.core.text.document import Document
from doppio.core.text.given import given_length, moved

_KEYS = {"id", "text", "tags", "answers", "unanswerable"}
_ANSWER_KEYS = {"document", "start", "end", "quote", "grade"}


def read_questions(path: Path, documents: Mapping[str, Document]) -> list[Question]:
    """Read labelled questions and check every label against its document.

    Parameters
    ----------
    path : Path
        JSONL: `{"id", "text", "tags": [...], "answers": [...]}`, or `"unanswerable": true` without answers.
        An answer is `{"document", "start", "end", "grade"}`, `{"document", "quote", "grade"}` or
        `{"document", "grade"}`; the grade is 1 where it is left out. Offsets count code points of the text as it
        was given, where the format carries text as it is (plain text, a field of JSONL or CSV).
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
        question = _question(record, documents, where)
        if question.id in seen:
            raise QuestionError(f"{where}: id: {question.id!r} stands in line {seen[question.id]} already")
        seen[question.id] = number
        found.append(question)
    if not found:
        raise QuestionError(f"{path}: holds no questions")
    return found


def find_quote(text: str, quote: str) -> list[tuple[int, int]]:
    """All ranges of the text that hold the quote; white space of any length matches any other."""
    pattern = r"\s+".join(map(regex.escape, canonical(quote).split()))
    return [match.span() for match in regex.finditer(pattern, text)] if pattern else []


def _question(record: dict[str, Any], documents: Mapping[str, Document], where: str) -> Question:
    unknown = sorted(set(record) - _KEYS)
    if unknown:
        raise QuestionError(f"{where}: {unknown[0]}: unknown key; allowed are {', '.join(sorted(_KEYS))}")
    for key in ("id", "text"):
        if not isinstance(record.get(key), str) or not record[key].strip():
            raise QuestionError(f"{where}: {key}: missing, empty or not a text")
    tags = record.get("tags", [])
    if not isinstance(tags, list) or not all(isinstance(tag, str) for tag in tags):
        raise QuestionError(f"{where}: tags: not a list of texts")
    answers = record.get("answers", [])
    if not isinstance(answers, list):
        raise QuestionError(f"{where}: answers: not a list")
    if record.get("unanswerable") is True:
        if answers:
            raise QuestionError(f"{where}: answers: must be empty where unanswerable is true")
    elif not answers:
        raise QuestionError(f'{where}: answers: missing; mark a question that has none with "unanswerable": true')
    spans = tuple(_span(answer, documents, f"{where}: answers[{place}]") for place, answer in enumerate(answers))
    return Question(record["id"], canonical(record["text"]).strip(), spans, tuple(tags))


def _span(answer: Any, documents: Mapping[str, Document], where: str) -> Span:
    if not isinstance(answer, dict):
        raise QuestionError(f"{where}: not an object")
    unknown = sorted(set(answer) - _ANSWER_KEYS)
    if unknown:
        raise QuestionError(f"{where}.{unknown[0]}: unknown key; allowed are {', '.join(sorted(_ANSWER_KEYS))}")
    identity = answer.get("document")
    document = documents.get(identity) if isinstance(identity, str) else None
    if document is None:
        raise QuestionError(f"{where}.document: {identity!r} is not among the documents")
    grade = answer.get("grade", 1)
    if isinstance(grade, bool) or not isinstance(grade, int | float) or not 0 < grade < math.inf:
        raise QuestionError(f"{where}.grade: {grade!r} is not a finite number above 0")
    if "quote" in answer:
        return _quoted(answer["quote"], document, float(grade), where)
    if "start" not in answer and "end" not in answer:
        return Span(document.id, None, None, float(grade))
    start, end = answer.get("start"), answer.get("end")
    length = given_length(document.given, document.text)
    if type(start) is not int or type(end) is not int or not 0 <= start < end <= length:
        raise QuestionError(
            f"{where}: start {start!r} and end {end!r} are not a range within 0 to {length}, "
            f"the length of {document.id}"
        )
    first, last = moved(document.given, start), moved(document.given, end)
    if first >= last:
        raise QuestionError(f"{where}: {start} to {end} of {document.id} holds nothing but control characters")
    return Span(document.id, first, last, float(grade))


def _quoted(quote: Any, document: Document, grade: float, where: str) -> Span:
    if not isinstance(quote, str) or not quote.strip():
        raise QuestionError(f"{where}.quote: empty or not a text")
    ranges = find_quote(document.text, quote)
    shown = quote if len(quote) <= 60 else quote[:57] + "..."
    if not ranges:
        raise QuestionError(f'{where}.quote: "{shown}" is not in {document.id}')
    if len(ranges) > 1:
        raise QuestionError(f'{where}.quote: "{shown}" is in {document.id} {len(ranges)} times; quote more of it')
    return Span(document.id, *ranges[0], grade)
