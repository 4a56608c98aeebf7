"""Questions as files that can be read again, here and elsewhere."""

import csv
import io
import json
import re
from collections.abc import Iterable, Iterator
from typing import Any

from django.db.models import Prefetch

from doppio.core.chunking.table import ChunkTable
from doppio.core.formats.trec import item
from doppio.core.measure.relevance import relevance
from doppio.core.text.given import back
from doppio.library import pictures
from doppio.library.models import Document
from doppio.questions.models import Question, QuestionSet
from doppio.questions.services import core_question

AT_ONCE = 500
COLUMNS = ("id", "question", "document", "start", "end", "quote", "grade", "tags", "group", "unanswerable",
           "only")  # fmt: skip
FORMS = {
    "jsonl": ("application/x-ndjson", "jsonl"),
    "csv": ("text/csv; charset=utf-8", "csv"),
    "tsv": ("text/tab-separated-values; charset=utf-8", "tsv"),
    "topics": ("text/plain; charset=utf-8", "topics.txt"),
    "qrels": ("text/plain; charset=utf-8", "qrels"),
}


def exported(found: QuestionSet, form: str) -> Iterator[str]:
    """The lines of a file with the questions of a set, in their order; see `FORMS`."""
    rows = rows_of(found, texts=form in ("csv", "tsv"))
    if form == "jsonl":
        return (json.dumps(as_json(row), ensure_ascii=False) + "\n" for row in rows)
    if form == "topics":
        return (f"<top>\n<num> Number: {row.identity}\n<title> {row.text}\n</top>\n" for row in rows)
    if form == "qrels":
        return (line for row in rows for line in _judgements(row))
    return _table(rows, "\t" if form == "tsv" else ",")


def exported_for_cut(found: QuestionSet, table: ChunkTable, positions: dict[str, int]) -> Iterator[str]:
    """Judgements on the chunks of a cut: `question 0 document:start-end grade`, the best grade of a chunk."""
    names = list(positions)
    for row in rows_of(found):
        question = core_question(row)
        relevant = relevance(table, positions, question)
        grades = dict.fromkeys(relevant.rejected.tolist(), 0.0)
        for chunks, grade in zip(relevant.chunks, relevant.grades.tolist(), strict=True):
            for chunk in chunks.tolist():
                grades[chunk] = max(grade, grades.get(chunk, 0.0))
        for chunk, grade in sorted(grades.items()):
            yield f"{_word(row.identity)} 0 {item(table, names, chunk)} {grade:g}\n"


def rows_of(found: QuestionSet, texts: bool = False) -> Iterator[Question]:
    """Questions of a set with their labels and what of the documents they need, some at a time."""
    documents = Document.objects.only("pk", "name", "given", *(["text"] if texts else []))
    rows = found.questions.order_by("position").prefetch_related("spans", Prefetch("spans__document", documents))
    return rows.iterator(chunk_size=AT_ONCE)


def as_json(row: Question) -> dict[str, Any]:
    """A question as `read_questions` reads it."""
    answers = [answer for answer in map(_answer, _placed(row)) if answer is not None]
    return {
        "id": row.identity,
        "text": row.text,
        **({"tags": row.tags} if row.tags else {}),
        **({"group": row.group} if row.group else {}),
        **({"unanswerable": True} if row.unanswerable else {}),
        **({"only": row.only} if row.only else {}),
        **({"picture": pictures.packed_asked(row.picture), "share": row.share} if row.picture else {}),
        "answers": answers,
    }


def _answer(span: Any) -> dict[str, Any]:
    found: dict[str, Any] = {"document": span.document.name}
    if span.start is not None:
        # Offsets are those of the text as it was given, which is what files are read by.
        found |= {"start": back(span.document.given, span.start), "end": back(span.document.given, span.end)}
    return {**found, "grade": span.grade}


def _placed(row: Question) -> list[Any]:
    return [span for span in row.spans.all() if not span.lost and span.document is not None]


def _table(rows: Iterable[Question], delimiter: str) -> Iterator[str]:
    """A row a label, with its quote for people; a question without one has a row too."""
    line = io.StringIO()
    writer = csv.writer(line, delimiter=delimiter, lineterminator="\n")

    def written(cells: Iterable[Any]) -> str:
        writer.writerow(cells)
        text = line.getvalue()
        line.seek(0)
        line.truncate()
        return text

    yield written(COLUMNS)
    for row in rows:
        common = (";".join(row.tags), row.group, "yes" if row.unanswerable else "", row.only)
        spans = _placed(row)
        for span in spans:
            answer = _answer(span)
            quote = span.document.text[span.start : span.end] if span.start is not None else ""
            cells = (span.document.name, answer.get("start", ""), answer.get("end", ""), quote, f"{span.grade:g}")
            yield written((row.identity, row.text, *cells, *common))
        if not spans:
            yield written((row.identity, row.text, "", "", "", "", "", *common))


def _judgements(row: Question) -> Iterator[str]:
    """Judgements on whole documents: the best grade that any place of them has."""
    grades: dict[str, float] = {}
    for span in _placed(row):
        grades[span.document.name] = max(span.grade, grades.get(span.document.name, 0.0))
    for name, grade in grades.items():
        yield f"{_word(row.identity)} 0 {_word(name)} {grade:g}\n"


def _word(text: str) -> str:
    return re.sub(r"\s", "_", text)
