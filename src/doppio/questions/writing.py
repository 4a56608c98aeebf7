"""Questions and labels as people write them, one at a time."""

from collections.abc import Sequence
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max

from doppio.core.errors import DocumentError, QuestionError
from doppio.core.formats.questions import WrongField, checked_only
from doppio.core.text.canonical import canonical
from doppio.library import pictures
from doppio.library.models import Document, Workspace
from doppio.library.workspaces import marked
from doppio.questions.models import AnswerSpan, Question, QuestionSet

FIRST_SET = "Questions"
LONGEST_QUESTION, LONGEST_TAG, MOST_TAGS = 2000, 60, 50
HIGHEST_GRADE = 3


def set_for(workspace: Workspace, number: int | None = None) -> QuestionSet:
    """A set of the workspace by its number; the first one where none is named, made if there is none yet.

    Raises
    ------
    QuestionError
        If there is no set of that number.
    """
    if number is not None:
        found = workspace.question_sets.filter(pk=number).first()
        if found is None:
            raise QuestionError(f"set: {number} is no question set of this workspace")
        return found
    first = workspace.question_sets.first()
    return first or QuestionSet.objects.get_or_create(workspace=workspace, name=FIRST_SET)[0]


@transaction.atomic
def write_question(
    workspace: Workspace,
    text: str,
    *,
    tags: Sequence[str] = (),
    into: QuestionSet | None = None,
    group: str = "",
    only: str = "",
) -> Question:
    """A new question, without any label yet.

    Raises
    ------
    QuestionError
        If the text is empty or stands in the same set already, or a tag is none.
    """
    # Numbers and places are given one after another.
    Workspace.objects.select_for_update().get(pk=workspace.pk)
    into = into or set_for(workspace)
    text = _checked_text(into, text)
    last = workspace.questions.aggregate(last=Max("position"))["last"]
    made = Question.objects.create(
        workspace=workspace,
        set=into,
        identity=_free_identity(workspace),
        text=text,
        tags=_checked_tags(tags),
        group=group,
        only=_checked_only(only),
        position=0 if last is None else last + 1,
    )
    marked(workspace)
    return made


@transaction.atomic
def change_question(question: Question, **changes: Any) -> dict[str, list[Any]]:
    """Change text, tags, set, group, conditions, picture, or that nothing answers it; returns what was and what is.

    Raises
    ------
    QuestionError
        If it cannot be so: see `write_question`; and a question with an answer is not unanswerable.
    """
    before = {name: getattr(question, name) for name in changes}
    if "set" in changes:
        question.set = changes["set"]
    if "text" in changes:
        question.text = _checked_text(question.set, changes["text"], question)
    if "tags" in changes:
        question.tags = _checked_tags(changes["tags"])
    if "group" in changes:
        question.group = changes["group"].strip()[:120]
    if "only" in changes:
        question.only = _checked_only(changes["only"])
    if "picture" in changes:
        question.picture = _checked_picture(changes["picture"])
    if "share" in changes:
        question.share = changes["share"]
    if changes.get("unanswerable") and any(span.counts for span in question.spans.all()):
        raise QuestionError("unanswerable: the question has answers; remove them first")
    if "unanswerable" in changes:
        question.unanswerable = bool(changes["unanswerable"])
    question.save()
    _changed(question)
    return {
        name: [_plain(was), _plain(getattr(question, name))]
        for name, was in before.items()
        if was != getattr(question, name)
    }


@transaction.atomic
def remove_question(question: Question) -> dict[str, Any]:
    """Remove a question with its labels; returns all that it was, so that it can be written again."""
    labels = [
        {"document": span.document_id, "name": span.document.name if span.document else span.document_name,
         "start": span.start, "end": span.end, "grade": span.grade}
        for span in question.spans.select_related("document").defer("document__text", "document__blocks")
    ]  # fmt: skip
    was = {"text": question.text, "tags": question.tags, "group": question.group, "set": question.set.name,
           "unanswerable": question.unanswerable, "only": question.only,
           "picture": question.picture, "share": question.share, "labels": labels}  # fmt: skip
    workspace = question.workspace
    question.delete()
    marked(workspace)
    return was


def _checked_picture(picture: str) -> str:
    if picture:
        try:
            pictures.asked(picture)
        except DocumentError as error:
            raise QuestionError(str(error)) from error
    return picture


def _checked_only(text: str) -> str:
    try:
        return checked_only(text, "only")
    except WrongField as error:
        raise QuestionError(str(error)) from error


@transaction.atomic
def add_label(
    question: Question, document: Document, start: int | None, end: int | None, grade: float, judge: User | None
) -> AnswerSpan:
    """Say that a range of a document answers a question, or with grade 0 that it does not.

    A range that has been judged before is judged anew: there is one label for it.

    Raises
    ------
    DocumentError
        If that is no range of the document.
    QuestionError
        If the grade is none, or the question is marked as one that nothing answers.
    """
    check_range(document, start, end)
    check_grade(grade)
    if grade > 0 and question.unanswerable:
        raise QuestionError(
            "unanswerable: no document answers this question, says its mark; take the mark away first"
        )
    label, _ = AnswerSpan.objects.update_or_create(
        question=question, document=document, start=start, end=end, lost=False,
        defaults={"grade": grade, "judge": judge},
    )  # fmt: skip
    _changed(question)
    return label


@transaction.atomic
def change_label(span: AnswerSpan, judge: User | None, **changes: Any) -> None:
    """Move a label to another range, or give it another grade; see `add_label`."""
    if "grade" in changes:
        check_grade(changes["grade"])
        span.grade = changes["grade"]
    if "document" in changes:
        check_range(changes["document"], changes["start"], changes["end"])
        span.document, span.start, span.end = changes["document"], changes["start"], changes["end"]
        span.lost, span.quote = False, ""
    span.judge = judge
    span.save()
    _changed(span.question)


@transaction.atomic
def remove_label(span: AnswerSpan) -> None:
    """Remove a label; its question stays, and waits for another one where it has none."""
    span.delete()
    _changed(span.question)


def _changed(question: Question) -> None:
    """What was measured of the question, and with it of the workspace, is no longer true."""
    marked(question.workspace)
    question.marked = question.workspace.marked
    question.save(update_fields=["marked"])


def check_range(document: Document, start: int | None, end: int | None) -> None:
    """Whether it is a range of a document, or None twice for the whole of it."""
    length = len(document.text)
    if (start is None) != (end is None) or (start is not None and end is not None and not 0 <= start < end <= length):
        raise DocumentError(f"{document.name}: {start} to {end} is not a range within 0 to {length}")


def check_grade(grade: float) -> None:
    """Whether it is a grade."""
    if not 0 <= grade <= HIGHEST_GRADE:
        raise QuestionError(f"grade: {grade:g} is not between 0 and {HIGHEST_GRADE}; 0 says that it is no answer")


def _checked_text(into: QuestionSet, text: str, own: Question | None = None) -> str:
    text = " ".join(canonical(text).split())
    if not text:
        raise QuestionError("text: empty; a question needs words")
    if len(text) > LONGEST_QUESTION:
        raise QuestionError(f"text: {len(text)} characters; at most {LONGEST_QUESTION} are taken")
    same = into.questions.filter(text=text)
    if (same.exclude(pk=own.pk) if own else same).exists():
        raise QuestionError(f"text: the set {into.name!r} has this question already")
    return text


def _checked_tags(tags: Sequence[str]) -> list[str]:
    found = list(dict.fromkeys(" ".join(tag.split()) for tag in tags))
    if any(not tag or len(tag) > LONGEST_TAG for tag in found):
        raise QuestionError(f"tags: a tag has 1 to {LONGEST_TAG} characters")
    if len(found) > MOST_TAGS:
        raise QuestionError(f"tags: {len(found)}; at most {MOST_TAGS} are taken")
    return found


def _free_identity(workspace: Workspace) -> str:
    """The next of q1, q2, ... that no question has."""
    taken = set(workspace.questions.filter(identity__regex=r"^q\d{1,9}$").values_list("identity", flat=True))
    number = max((int(identity[1:]) for identity in taken), default=0) + 1
    return f"q{number}"


def _plain(value: Any) -> Any:
    return value.name if isinstance(value, QuestionSet) else value
