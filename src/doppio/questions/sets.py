"""Question sets: named, told apart, and measured or not."""

from typing import Any

from django.db import transaction
from django.db.models import Count, Exists, OuterRef, Q

from doppio.core.errors import QuestionError
from doppio.library.models import Workspace
from doppio.library.workspaces import marked
from doppio.questions.models import AnswerSpan, QuestionSet

LONGEST_NAME = 120


def sets_of(workspace: Workspace) -> list[dict[str, Any]]:
    """The sets of a workspace with their numbers of questions; two queries."""
    answered = AnswerSpan.objects.counting().filter(question=OuterRef("pk"))
    known = Q(unanswerable=True) | Q(Exists(answered))
    counts: dict[int, dict[str, int]] = {
        row["set"]: {"questions": row["questions"], "labelled": row["labelled"]}
        for row in workspace.questions.order_by()
        .values("set")
        .annotate(questions=Count("pk"), labelled=Count("pk", filter=known))
    }
    return [
        {"id": row.pk, "name": row.name, "note": row.note, "measured": row.measured,
         **counts.get(row.pk, {"questions": 0, "labelled": 0})}
        for row in workspace.question_sets.all()
    ]  # fmt: skip


@transaction.atomic
def make_set(workspace: Workspace, name: str, note: str = "") -> QuestionSet:
    """An empty set.

    Raises
    ------
    QuestionError
        If the name is empty, too long, or another set's.
    """
    return QuestionSet.objects.create(workspace=workspace, name=_free_name(workspace, name), note=note)


@transaction.atomic
def change_set(found: QuestionSet, **changes: Any) -> None:
    """Change name, note, or whether trials ask its questions; see `make_set`."""
    if "name" in changes:
        changes["name"] = _free_name(found.workspace, changes["name"], found)
    measured = found.measured
    for name, value in changes.items():
        setattr(found, name, value)
    found.save()
    if found.measured != measured:
        marked(found.workspace)


@transaction.atomic
def remove_set(found: QuestionSet) -> None:
    """Remove a set with its questions and their labels."""
    workspace = found.workspace
    found.delete()
    marked(workspace)


def _free_name(workspace: Workspace, name: str, own: QuestionSet | None = None) -> str:
    name = " ".join(name.split())
    if not 0 < len(name) <= LONGEST_NAME:
        raise QuestionError(f"name: {len(name)} characters; a set's name has 1 to {LONGEST_NAME}")
    others = workspace.question_sets.filter(name=name)
    if (others.exclude(pk=own.pk) if own else others).exists():
        raise QuestionError(f"name: {name!r} is another set's; take another one")
    return name
