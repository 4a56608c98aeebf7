"""Questions out of people's files: understood, looked up in the documents, shown, and only then written."""

import gc
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max

from doppio.core.errors import QuestionError
from doppio.core.formats.question_table import Asked, Columns, Sheet, Wrong, judgements, questions_of
from doppio.core.formats.questions import GivenLabel, GivenQuestion, WrongField, places
from doppio.core.measure.questions import Span
from doppio.core.text.document import Document as CoreDocument
from doppio.library import pictures
from doppio.library.models import Document, Workspace
from doppio.library.workspaces import marked
from doppio.questions.models import AnswerSpan, Question, QuestionSet
from doppio.questions.writing import HIGHEST_GRADE, LONGEST_QUESTION, LONGEST_TAG, MOST_TAGS

READ_AT_ONCE, WRITTEN_AT_ONCE = 50, 2000
AROUND = 60
ALL, NONE = "all", "none"


@dataclass(frozen=True)
class Place:
    """One of several ranges in which a quote stands, with the text around it."""

    start: int
    end: int
    before: str
    after: str


@dataclass(frozen=True)
class Doubt:
    """A quote that stands in several places; a person says which is meant.

    key : names it from one look to the next
    """

    key: str
    line: int
    question: str
    document: str
    quote: str
    places: tuple[Place, ...]
    chosen: str = ""


@dataclass
class Found:
    """A question of the file and what of it would be written.

    row : the question that is in the set already
    spans : labels with the primary keys of their documents
    regraded : labels that are there with another grade, and give way
    """

    given: GivenQuestion
    line: int
    row: Question | None = None
    spans: list[tuple[int, Span]] = field(default_factory=list)
    regraded: list[int] = field(default_factory=list)


@dataclass
class Look:
    """What a file holds, as this workspace sees it."""

    found: list[Found] = field(default_factory=list)
    wrong: list[Wrong] = field(default_factory=list)
    doubts: list[Doubt] = field(default_factory=list)
    known_labels: int = 0

    @property
    def labels(self) -> int:
        return sum(len(found.spans) for found in self.found)

    @property
    def open(self) -> bool:
        """Whether something keeps it from being imported as a whole."""
        return bool(self.wrong) or any(not doubt.chosen for doubt in self.doubts)


class Names:
    """Finds documents by what files call them: name, file name, or title where it is one document's alone."""

    def __init__(self, rows: Iterable[tuple[int, str, str]]) -> None:
        self._exact: dict[str, int] = {}
        loose: dict[str, set[int]] = defaultdict(set)
        for pk, name, title in rows:
            self._exact[name] = pk
            last = name.rsplit("/", 1)[-1]
            for key in (name, last, last.rsplit(".", 1)[0], title, re.sub(r"\s", "_", name)):
                loose[key.lower()].add(pk)
        self._loose = {key: next(iter(pks)) for key, pks in loose.items() if len(pks) == 1}
        self._several = {key for key, pks in loose.items() if len(pks) > 1}

    def find(self, name: str) -> int:
        """The document of a name.

        Raises
        ------
        QuestionError
            If there is none, or more than one.
        """
        pk = self._exact.get(name) or self._loose.get(name.lower())
        if pk is None and name.lower() in self._several:
            raise QuestionError(f"{name!r} is the name of several documents; write it with its folder")
        if pk is None:
            raise QuestionError(f"{name!r} is not among the documents")
        return pk


@contextmanager
def uncollected() -> Iterator[None]:
    """No looking for cycles meanwhile: a large file makes a million things, all of which are still needed."""
    gc.disable()
    try:
        yield
    finally:
        gc.enable()


def look(
    workspace: Workspace,
    into: QuestionSet | None,
    sheet: Sheet | None,
    qrels: bytes | None = None,
    *,
    columns: Columns | None = None,
    on_canonical: bool = False,
    choices: Mapping[str, str] | None = None,
) -> Look:
    """Understand a file and look its labels up; nothing is written.

    Parameters
    ----------
    into : QuestionSet or None
        The set that it goes to; None for one that is still to be made.
    sheet, qrels : Sheet or None, bytes or None
        A file of questions, judgements on questions of it or of the workspace, or both.
    choices : mapping from the key of a doubt to "1", "2", ..., "all" or "none"
    """
    asked = questions_of(sheet, columns, on_canonical) if sheet is not None else Asked()
    rows = {row.identity: row for row in workspace.questions.defer("tags")}
    judged = _judged(asked, rows, qrels)
    result = Look(wrong=asked.wrong)
    wanted: list[tuple[Found, int, GivenLabel]] = []
    own = {row.text: row for row in rows.values() if into is not None and row.set_id == into.pk}
    for question, line, lines in zip(asked.questions, asked.lines, asked.labels, strict=True):
        try:
            found = Found(question, line, _there(question, rows, own, into))
        except WrongField as error:
            result.wrong.append(Wrong(line, error.field, error.message))
            continue
        result.found.append(found)
        wanted += [(found, at, label) for at, label in zip(lines, question.labels, strict=True)]
    wanted += _of_others(judged, rows, result)
    _look_up(workspace, wanted, dict(choices or {}), result)
    _without_known(result)
    result.wrong.sort(key=lambda wrong: wrong.line)
    return result


@transaction.atomic
def write(workspace: Workspace, into: QuestionSet, seen: Look, judge: User | None) -> dict[str, int]:
    """Write what a look has found, all of it or nothing; returns how many questions and labels are new."""
    Workspace.objects.select_for_update().get(pk=workspace.pk)
    last = workspace.questions.aggregate(last=Max("position"))["last"]
    position = 0 if last is None else last + 1
    numbers = _free_numbers(workspace, seen)
    marked(workspace)
    fresh = [found for found in seen.found if found.row is None]
    for place, found in enumerate(fresh):
        given = found.given
        found.row = Question(
            workspace_id=workspace.pk, set_id=into.pk, identity=given.id or next(numbers), text=given.text,
            tags=list(given.tags), group=given.group, unanswerable=given.unanswerable, only=given.only,
            picture=pictures.unpacked_asked(given.picture), share=given.share,
            position=position + place, marked=workspace.marked,
        )  # fmt: skip
    Question.objects.bulk_create([found.row for found in fresh if found.row], WRITTEN_AT_ONCE)
    AnswerSpan.objects.filter(pk__in=[pk for found in seen.found for pk in found.regraded]).delete()
    changed = [found.row for found in seen.found if found.spans and found.row is not None]
    Question.objects.filter(pk__in=[row.pk for row in changed]).update(marked=workspace.marked)
    by = judge.pk if judge is not None else None
    # Numbers in place of records: there may be hundreds of thousands.
    spans = [
        AnswerSpan(
            question_id=found.row.pk, document_id=document, start=span.start, end=span.end, grade=span.grade,
            judge_id=by,
        )
        for found in seen.found
        if found.row is not None
        for document, span in found.spans
    ]  # fmt: skip
    AnswerSpan.objects.bulk_create(spans, WRITTEN_AT_ONCE)
    return {"questions": len(fresh), "labels": len(spans)}


def _judged(asked: Asked, rows: Mapping[str, Question], qrels: bytes | None) -> list[tuple[int, str, GivenLabel]]:
    """Judgements on questions that are not in the file; those on questions that are become their labels."""
    if qrels is None:
        return []
    found, wrong = judgements(qrels, "judgements")
    asked.wrong += wrong
    at = {question.id: place for place, question in enumerate(asked.questions)}
    others: list[tuple[int, str, GivenLabel]] = []
    more: dict[int, list[tuple[int, GivenLabel]]] = defaultdict(list)
    for line, identity, label in found:
        if identity in at:
            more[at[identity]].append((line, label))
        elif identity in rows:
            others.append((line, identity, label))
        else:
            asked.wrong.append(Wrong(line, "question", f"{identity!r} is no question of the file or the workspace"))
    for place, labels in more.items():
        question = asked.questions[place]
        given = GivenQuestion(
            question.id, question.text, question.labels + tuple(label for _, label in labels), question.tags,
            question.group, question.unanswerable, question.only, question.picture, question.share,
        )  # fmt: skip
        asked.questions[place] = given
        asked.labels[place] += [line for line, _ in labels]
    return others


def _there(
    given: GivenQuestion, rows: Mapping[str, Question], own: Mapping[str, Question], into: QuestionSet | None
) -> Question | None:
    """The question of the set that is meant, if it is there already."""
    if len(given.text) > LONGEST_QUESTION:
        raise WrongField("question", f"{len(given.text)} characters; at most {LONGEST_QUESTION} are taken")
    if len(given.id) > 120:
        raise WrongField("id", f"{len(given.id)} characters; at most 120 are taken")
    if len(given.tags) > MOST_TAGS or any(len(tag) > LONGEST_TAG for tag in given.tags):
        raise WrongField("tags", f"more than {MOST_TAGS}, or one of more than {LONGEST_TAG} characters")
    if len(given.group) > 120:
        raise WrongField("group", f"{len(given.group)} characters; at most 120 are taken")
    row = rows.get(given.id) if given.id else own.get(given.text)
    if row is None:
        return None
    if into is None or row.set_id != into.pk:
        raise WrongField(
            "id", f"{given.id!r} is a question of another set; without a column for the id they get new ones"
        )
    if row.text != given.text:
        raise WrongField("id", f"{given.id!r} is there with other words: {row.text[:80]!r}")
    return row


def _of_others(
    judged: Sequence[tuple[int, str, GivenLabel]], rows: Mapping[str, Question], result: Look
) -> Iterator[tuple[Found, int, GivenLabel]]:
    founds: dict[str, Found] = {}
    for line, identity, label in judged:
        if identity not in founds:
            row = rows[identity]
            founds[identity] = Found(GivenQuestion(identity, row.text, unanswerable=row.unanswerable), line, row)
            result.found.append(founds[identity])
        yield founds[identity], line, label


def _look_up(
    workspace: Workspace,
    wanted: Sequence[tuple[Found, int, GivenLabel]],
    choices: Mapping[str, str],
    result: Look,
) -> None:
    """Find the place of every label, the documents a few at a time and each once."""
    names = Names(workspace.documents.values_list("pk", "name", "title"))
    by_document: dict[int, list[tuple[Found, int, GivenLabel]]] = defaultdict(list)
    for found, line, label in wanted:
        try:
            if not 0 <= label.grade <= HIGHEST_GRADE:
                raise WrongField(
                    label.part("grade", "grade"), f"{label.grade:g} is not between 0 and {HIGHEST_GRADE}"
                )
            by_document[names.find(label.document)].append((found, line, label))
        except WrongField as error:
            result.wrong.append(Wrong(line, error.field, error.message))
        except QuestionError as error:
            result.wrong.append(Wrong(line, label.part("document"), str(error)))
    numbers = sorted(by_document)
    for low in range(0, len(numbers), READ_AT_ONCE):
        documents = Document.objects.only("name", "text", "given").in_bulk(numbers[low : low + READ_AT_ONCE])
        for pk, row in documents.items():
            given = tuple(tuple(pair) for pair in row.given)
            document = CoreDocument(row.name, "", row.text, (), (), {}, {}, given)
            for found, line, label in by_document[pk]:
                _place(found, line, label, pk, document, choices, result)


def _place(
    found: Found,
    line: int,
    label: GivenLabel,
    pk: int,
    document: CoreDocument,
    choices: Mapping[str, str],
    result: Look,
) -> None:
    try:
        spans = places(label, document)
    except WrongField as error:
        result.wrong.append(Wrong(line, error.field, error.message))
        return
    if len(spans) > 1:
        spans = _chosen(found, line, label, document, spans, choices, result)
    found.spans += [(pk, span) for span in spans]


def _chosen(
    found: Found,
    line: int,
    label: GivenLabel,
    document: CoreDocument,
    spans: list[Span],
    choices: Mapping[str, str],
    result: Look,
) -> list[Span]:
    key = f"{line}/{label.field}"
    choice = choices.get(key, "")
    if choice.isdigit() and not 1 <= int(choice) <= len(spans):
        choice = ""
    text = document.text
    shown = tuple(
        Place(start, end, text[max(start - AROUND, 0) : start], text[end : end + AROUND])
        for start, end in ((span.start or 0, span.end or 0) for span in spans)
    )
    result.doubts.append(Doubt(key, line, found.given.text, document.id, label.quote or "", shown, choice))
    if choice == ALL:
        return spans
    return [spans[int(choice) - 1]] if choice.isdigit() else []


def _without_known(result: Look) -> None:
    """Take out labels that are there already or stand twice in the file; the last grade of a range counts."""
    numbers = [found.row.pk for found in result.found if found.row is not None]
    there: dict[tuple[Any, ...], tuple[int, float]] = {}
    for low in range(0, len(numbers), WRITTEN_AT_ONCE):
        rows = AnswerSpan.objects.filter(question__in=numbers[low : low + WRITTEN_AT_ONCE], lost=False)
        for *place, pk, grade in rows.values_list("question", "document", "start", "end", "pk", "grade"):
            there[tuple(place)] = (pk, grade)
    for found in result.found:
        fresh = {(document, span.start, span.end): (document, span) for document, span in found.spans}
        for key, (_, span) in list(fresh.items()):
            before = there.get((found.row.pk, *key)) if found.row is not None else None
            if before is not None and before[1] == span.grade:
                del fresh[key]
            elif before is not None:
                found.regraded.append(before[0])
        result.known_labels += len(found.spans) - len(fresh)
        found.spans = list(fresh.values())
        none = found.given.unanswerable or (found.row is not None and found.row.unanswerable)
        if none and any(span.grade > 0 for _, span in found.spans):
            result.wrong.append(Wrong(found.line, "answers", "there are some, but nothing answers it, says its mark"))
            found.spans = []


def _free_numbers(workspace: Workspace, seen: Look) -> Iterator[str]:
    """q1, q2, ... as far as they are no question's."""
    taken = set(workspace.questions.values_list("identity", flat=True)) | {found.given.id for found in seen.found}
    number = 1
    while True:
        if f"q{number}" not in taken:
            yield f"q{number}"
        number += 1


def to_json(seen: Look, shown: int = 100, samples: int = 8) -> dict[str, Any]:
    """What a person looks at before anything is written."""
    fresh = [found for found in seen.found if found.row is None]
    return {
        "questions": len(fresh),
        "known": len(seen.found) - len(fresh),
        "labels": seen.labels,
        "known_labels": seen.known_labels,
        "waiting": sum(
            not found.spans and not found.given.unanswerable and found.row is None for found in seen.found
        ),
        "unanswerable": sum(found.given.unanswerable for found in fresh),
        "wrong_count": len(seen.wrong),
        "wrong": [vars(wrong) for wrong in seen.wrong[:shown]],
        "doubt_count": len(seen.doubts),
        "doubts": [
            {**vars(doubt), "places": [vars(place) for place in doubt.places[:20]]} for doubt in seen.doubts[:shown]
        ],
        "samples": [
            {
                "line": found.line,
                "text": found.given.text,
                "tags": list(found.given.tags),
                "labels": len(found.spans),
                "known": found.row is not None,
                "unanswerable": found.given.unanswerable,
            }
            for found in seen.found[:samples]
        ],
    }
