"""Questions from files that people have: JSONL, CSV and TSV by a choice of columns, TREC topics and judgements."""

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Any

import regex

from doppio.core.errors import DocumentError, QuestionError
from doppio.core.formats.questions import GivenLabel, GivenQuestion, WrongField, checked_only, question_of
from doppio.core.formats.records import json_rows
from doppio.core.formats.table import delimited, delimiter_of
from doppio.core.text.canonical import canonical, decode

JSONL, TABLE, TOPICS = "jsonl", "table", "topics"
YES = {"true", "yes", "y", "1", "x"}
NO = {"false", "no", "n", "0", ""}
# Names by which columns are recognised; a person may choose others.
GUESSED = {
    "question": ("question", "text", "query", "title"),
    "id": ("id", "identity", "qid", "number"),
    "document": ("document", "doc", "docno", "file", "source"),
    "quote": ("quote", "answer", "passage", "span"),
    "start": ("start", "from", "begin"),
    "end": ("end", "to"),
    "grade": ("grade", "relevance", "rel"),
    "tags": ("tags", "tag", "labels"),
    "group": ("group",),
    "unanswerable": ("unanswerable", "no answer"),
    "only": ("only", "only where", "conditions", "filter"),
}
_TOPIC = regex.compile(r"<top>(.*?)</top>", regex.S | regex.I)
_NUMBER = regex.compile(r"<num>\s*(?:Number:)?\s*([^\s<]+)", regex.I)
_TITLE = regex.compile(r"<title>\s*(?:Topic:)?\s*([^<]*)", regex.I)
_WHOLE = regex.compile(r"[0-9]{1,9}")
_RANGE = regex.compile(r"^(.*):([0-9]{1,9})-([0-9]{1,9})$", regex.S)


@dataclass(frozen=True)
class Columns:
    """Which column of a table is what; empty where there is none."""

    question: str = ""
    id: str = ""
    document: str = ""
    quote: str = ""
    start: str = ""
    end: str = ""
    grade: str = ""
    tags: str = ""
    group: str = ""
    unanswerable: str = ""
    only: str = ""

    @classmethod
    def guessed(cls, names: Sequence[str]) -> "Columns":
        """A first choice by the names of the columns."""
        known = {name.strip().lower(): name for name in reversed(names)}
        found = {
            what: next((known[name] for name in likely if name in known), "") for what, likely in GUESSED.items()
        }
        return cls(**found)

    @classmethod
    def chosen(cls, body: Mapping[str, Any], names: Sequence[str]) -> "Columns":
        """A choice that came from outside.

        Raises
        ------
        QuestionError
            If it names what is no column, or no column for the question.
        """
        known = {one.name for one in fields(cls)}
        for key, name in body.items():
            if key not in known:
                raise QuestionError(f"columns.{key}: unknown; allowed are {', '.join(sorted(known))}")
            if not isinstance(name, str) or (name and name not in names):
                raise QuestionError(f"columns.{key}: {name!r} is no column; there are {', '.join(names)}")
        if not body.get("question"):
            raise QuestionError("columns.question: empty; name the column that holds the question")
        return cls(**body)


@dataclass(frozen=True)
class Sheet:
    """A file of questions, read but not yet understood.

    form : how it was read
    names : its columns; empty where the form needs no choice of them
    rows : line numbers and values
    """

    name: str
    form: str
    names: tuple[str, ...]
    rows: tuple[tuple[int, Mapping[str, Any]], ...]


@dataclass(frozen=True)
class Wrong:
    """What is wrong in a line of a file."""

    line: int
    field: str
    message: str


@dataclass
class Asked:
    """Questions of a file with the lines that they stand in, and what is wrong with the other lines.

    labels : line of each label, beside `question.labels`
    """

    questions: list[GivenQuestion] = field(default_factory=list)
    lines: list[int] = field(default_factory=list)
    labels: list[list[int]] = field(default_factory=list)
    wrong: list[Wrong] = field(default_factory=list)


def read_sheet(data: bytes, name: str) -> Sheet:
    """Read a file by what is in it.

    Raises
    ------
    QuestionError
        If it cannot be read; names the line.
    """
    try:
        text = decode(data, name)
        lowered = name.lower()
        if lowered.endswith((".jsonl", ".ndjson", ".json")):
            return _lines_of_json(text, name)
        if _TOPIC.search(text):
            return Sheet(name, TOPICS, (), tuple(_topics(text)))
        if lowered.endswith((".csv", ".tsv", ".txt")):
            return _table(text, name)
    except DocumentError as error:
        raise QuestionError(str(error)) from error
    raise QuestionError(f"{name}: no file of questions; JSONL, CSV, TSV or TREC topics are read")


def questions_of(sheet: Sheet, columns: Columns | None = None, on_canonical: bool = False) -> Asked:
    """The questions of a sheet; rows of one id, or of one text, are one question with several labels.

    Parameters
    ----------
    columns : Columns or None
        The choice of columns for a table.
    on_canonical : bool
        Whether offsets are those of the canonical text, and not of the text as it was given.
    """
    if sheet.names:
        columns = columns or Columns.guessed(sheet.names)
    else:
        columns = None
    found = Asked()
    at: dict[str, int] = {}
    for line, row in sheet.rows:
        try:
            given = _of_row(row, columns) if columns is not None else question_of(row)
        except WrongField as error:
            found.wrong.append(Wrong(line, error.field, error.message))
            continue
        if on_canonical:
            given = replace(given, labels=tuple(replace(label, canonical=True) for label in given.labels))
        labels = given.labels
        key = given.id or given.text
        if key not in at:
            at[key] = len(found.questions)
            found.questions.append(given)
            found.lines.append(line)
            found.labels.append([line] * len(labels))
            continue
        place = at[key]
        before = found.questions[place]
        if not sheet.names:
            found.wrong.append(Wrong(line, "id", f"{given.id!r} stands in line {found.lines[place]} already"))
        elif before.text != given.text:
            found.wrong.append(Wrong(line, "id", f"{given.id!r} is another question above"))
        else:
            found.questions[place] = _together(before, given, labels)
            found.labels[place] += [line] * len(labels)
    return found


def judgements(data: bytes, name: str) -> tuple[list[tuple[int, str, GivenLabel]], list[Wrong]]:
    """Lines of TREC judgements (question, 0, document, grade): line, question id and label.

    Notes
    -----
    An item `document:start-end` is a range of the canonical text, as exports write it. Grades below 0 count as 0.

    Raises
    ------
    QuestionError
        If it is no text.
    """
    try:
        text = decode(data, name)
    except DocumentError as error:
        raise QuestionError(str(error)) from error
    found, wrong = [], []
    for line, row in enumerate(text.splitlines(), 1):
        parts = row.split()
        if not parts:
            continue
        if len(parts) != 4:
            wrong.append(Wrong(line, "line", f"{len(parts)} fields; question, 0, document and grade are four"))
            continue
        try:
            grade = max(float(parts[3]), 0.0)
        except ValueError:
            wrong.append(Wrong(line, "grade", f"{parts[3]!r} is not a number"))
            continue
        ranged = _RANGE.match(parts[2])
        if ranged:
            label = GivenLabel("document", ranged[1], int(ranged[2]), int(ranged[3]), grade=grade, canonical=True)
        else:
            label = GivenLabel("document", parts[2], grade=grade)
        found.append((line, parts[0], label))
    return found, wrong


def _lines_of_json(text: str, name: str) -> Sheet:
    rows = tuple(json_rows(text, name))
    if not rows:
        raise QuestionError(f"{name}: holds no questions")
    if any("answers" in row or ("unanswerable" in row and "text" in row) for _, row in rows):
        return Sheet(name, JSONL, (), rows)
    names = tuple(dict.fromkeys(key for _, row in rows[:1000] for key in row))
    return Sheet(name, TABLE, names, rows)


def _table(text: str, name: str) -> Sheet:
    """Rows below a header; without one where two columns begin with a number, as topics are often kept."""
    delimiter = "\t" if name.lower().endswith(".tsv") else delimiter_of(text)
    rows: list[tuple[int, Mapping[str, Any]]] = []
    header: list[str] = []
    for line, cells in delimited(text, name, delimiter, strict=delimiter != "\t"):
        if not any(cell.strip() for cell in cells):
            continue
        if not header:
            bare = len(cells) == 2 and cells[0].strip().isdigit()
            header = ["id", "question"] if bare else [cell.strip() for cell in cells]
            if not bare:
                continue
        if len(cells) > len(header):
            raise QuestionError(
                f"{name}, line {line}: {len(cells)} fields, but there are {len(header)} columns; "
                "put quotes around a field that holds the delimiter"
            )
        rows.append((line, dict(zip(header, cells, strict=False))))
    if not rows:
        raise QuestionError(f"{name}: holds no questions below its header")
    return Sheet(name, TABLE, tuple(header), tuple(rows))


def _topics(text: str) -> Iterator[tuple[int, Mapping[str, Any]]]:
    line, reached = 1, 0
    for match in _TOPIC.finditer(text):
        line, reached = line + text.count("\n", reached, match.start()), match.start()
        number, title = _NUMBER.search(match[1]), _TITLE.search(match[1])
        given = {"id": number[1] if number else None, "text": " ".join(title[1].split()) if title else None}
        yield line, given


def _of_row(row: Mapping[str, Any], columns: Columns) -> GivenQuestion:
    text = _cell(row, columns.question)
    if not text:
        raise WrongField(columns.question or "question", "empty; a question needs words")
    unanswerable = _flag(row, columns.unanswerable)
    label = _label_of(row, columns)
    if unanswerable and label is not None and label.grade > 0:
        raise WrongField(columns.unanswerable, "says that nothing answers it, but the row has an answer")
    return GivenQuestion(
        _cell(row, columns.id),
        " ".join(text.split()),
        (label,) if label is not None else (),
        _tags(row.get(columns.tags)) if columns.tags else (),
        _cell(row, columns.group),
        unanswerable,
        checked_only(_cell(row, columns.only), columns.only),
    )


def _label_of(row: Mapping[str, Any], columns: Columns) -> GivenLabel | None:
    document, quote = _cell(row, columns.document), _cell(row, columns.quote)
    start, end = (_whole(row, name) for name in (columns.start, columns.end))
    if not document:
        if quote or start is not None:
            raise WrongField(columns.document or "document", "empty; a quote or a range needs its document")
        return None
    grade = 1.0
    if _cell(row, columns.grade):
        try:
            grade = float(_cell(row, columns.grade))
        except ValueError:
            raise WrongField(columns.grade, f"{_cell(row, columns.grade)!r} is not a number") from None
    if (start is None) != (end is None):
        raise WrongField(columns.start or columns.end, "start and end belong together; one of them is empty")
    if start is not None:
        return GivenLabel(columns.start, document, start, end, grade=grade)
    if quote:
        return GivenLabel(columns.quote, document, quote=quote, grade=grade)
    return GivenLabel(columns.document, document, grade=grade)


def _together(before: GivenQuestion, given: GivenQuestion, labels: tuple[GivenLabel, ...]) -> GivenQuestion:
    return replace(
        before,
        labels=before.labels + labels,
        tags=tuple(dict.fromkeys(before.tags + given.tags)),
        unanswerable=before.unanswerable or given.unanswerable,
        only=before.only or given.only,
    )


def _cell(row: Mapping[str, Any], name: str) -> str:
    value = row.get(name) if name else None
    if value is None:
        return ""
    return canonical(value).strip() if isinstance(value, str) else json.dumps(value)


def _whole(row: Mapping[str, Any], name: str) -> int | None:
    cell = _cell(row, name)
    if not cell:
        return None
    if not _WHOLE.fullmatch(cell):
        raise WrongField(name, f"{cell[:40]!r} is not a whole number of characters")
    return int(cell)


def _flag(row: Mapping[str, Any], name: str) -> bool:
    cell = _cell(row, name).lower()
    if cell not in YES | NO:
        raise WrongField(name, f"{cell!r} is neither yes nor no")
    return cell in YES


def _tags(value: Any) -> tuple[str, ...]:
    if isinstance(value, list):
        found = [canonical(str(tag)) for tag in value]
    else:
        text = canonical(str(value or "")).replace("|", ";")
        found = text.split(";" if ";" in text else ",")
    return tuple(dict.fromkeys(" ".join(tag.split()) for tag in found if tag.strip()))
