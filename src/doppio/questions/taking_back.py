"""How changes of questions and labels are taken back out of the history."""

from contextlib import suppress

from django.contrib.auth.models import User

from doppio.core.errors import QuestionError
from doppio.library.events import (
    LABEL_CHANGED,
    LABEL_GIVEN,
    LABEL_REMOVED,
    QUESTION_CHANGED,
    QUESTION_REMOVED,
    QUESTION_WRITTEN,
    SET_CHANGED,
)
from doppio.library.history import HistoryError, can_take_back
from doppio.library.models import Document, Event, Workspace
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.sets import change_set
from doppio.questions.writing import (
    add_label,
    change_label,
    change_question,
    remove_label,
    remove_question,
    set_for,
    write_question,
)


def connect() -> None:
    """Tell the history what can be taken back here."""
    can_take_back((LABEL_GIVEN,), _label_given)
    can_take_back((LABEL_CHANGED,), _label_changed)
    can_take_back((LABEL_REMOVED,), _label_removed)
    can_take_back((QUESTION_WRITTEN,), _question_written)
    can_take_back((QUESTION_CHANGED,), _question_changed)
    can_take_back((QUESTION_REMOVED,), _question_removed)
    can_take_back((SET_CHANGED,), _set_changed)


def _label_given(workspace: Workspace, event: Event, who: User) -> None:
    label, before = _label(workspace, event), event.about.get("before")
    if before is None:
        remove_label(label)
    else:
        change_label(label, who, grade=before)


def _label_changed(workspace: Workspace, event: Event, who: User) -> None:
    label, before = _label(workspace, event), event.about["before"]
    if isinstance(before, list):
        assert label.document is not None
        change_label(label, who, document=label.document, start=before[0], end=before[1])
    else:
        change_label(label, who, grade=before)


def _label_removed(workspace: Workspace, event: Event, who: User) -> None:
    about = event.about
    document = _document(workspace, about["document"])
    add_label(_question(workspace, event), document, about["start"], about["end"], about["grade"], who)


def _question_written(workspace: Workspace, event: Event, who: User) -> None:
    row = _question(workspace, event)
    if row.spans.exists():
        raise HistoryError(f"{row.identity}: the question has labels by now; remove it where it stands")
    remove_question(row)


def _question_changed(workspace: Workspace, event: Event, who: User) -> None:
    row = _question(workspace, event)
    changes = {name: was for name, (was, _) in event.about["changes"].items()}
    if "set" in changes:
        found = workspace.question_sets.filter(name=changes["set"]).first()
        if found is None:
            raise HistoryError(f"set: {changes['set']!r} is not there any more")
        changes["set"] = found
    change_question(row, **changes)


def _question_removed(workspace: Workspace, event: Event, who: User) -> None:
    was = event.about["was"]
    into = workspace.question_sets.filter(name=was.get("set", "")).first() or set_for(workspace)
    row = write_question(
        workspace, was["text"], tags=was["tags"], into=into, group=was.get("group", ""), only=was.get("only", "")
    )
    if was.get("picture"):
        # A picture is kept for a month after its question went.
        with suppress(QuestionError):
            change_question(row, picture=was["picture"], share=was["share"])
    if not workspace.questions.filter(identity=event.about["question"]).exists():
        row.identity = event.about["question"]
        row.save(update_fields=["identity"])
    for label in was["labels"]:
        document = workspace.documents.filter(name=label["name"]).first()
        # A label whose document went meanwhile waits for it as others do.
        if document is not None:
            add_label(row, document, label["start"], label["end"], label["grade"], who)
    if was["unanswerable"]:
        change_question(row, unanswerable=True)


def _set_changed(workspace: Workspace, event: Event, who: User) -> None:
    found = workspace.question_sets.filter(name=event.about["set"]).first()
    if found is None:
        raise HistoryError(f"set: {event.about['set']!r} is not there any more")
    change_set(found, **event.about["before"])


def _question(workspace: Workspace, event: Event) -> Question:
    identity = event.about["question"]
    found = workspace.questions.select_related("workspace", "set").filter(identity=identity).first()
    if found is None:
        raise HistoryError(f"{identity}: the question is not there any more")
    return found


def _label(workspace: Workspace, event: Event) -> AnswerSpan:
    about = event.about
    found = AnswerSpan.objects.select_related("question__workspace", "document").filter(
        question=_question(workspace, event), document__name=about["document"], start=about["start"], end=about["end"]
    )
    label = found.first()
    if label is None or label.grade != about["grade"]:
        raise HistoryError("The label was changed or removed since.")
    return label


def _document(workspace: Workspace, name: str) -> Document:
    found = workspace.documents.filter(name=name).first()
    if found is None:
        raise HistoryError(f"{name}: the document is not there any more")
    return found
