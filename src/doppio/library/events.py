"""Who did what: sign-ins, removals, recipes put in force."""

from typing import Any

from django.contrib.auth.models import User
from django.http import HttpRequest

from doppio.library.models import Event, Workspace

SIGNED_IN, SIGN_IN_FAILED, SIGNED_OUT = "signed in", "sign-in failed", "signed out"
WORKSPACE_MADE, WORKSPACE_RENAMED, WORKSPACE_REMOVED = "workspace made", "workspace renamed", "workspace removed"
WORKSPACE_BROUGHT_BACK, PASSWORD_SET = "workspace brought back", "password set"
WORKSPACE_EXPORTED, WORKSPACE_IMPORTED = "workspace exported", "workspace imported"
WORKSPACE_COPIED, WORKSPACE_EMPTIED = "workspace copied", "workspace emptied"
MEMBER_INVITED, MEMBER_CHANGED, MEMBER_TAKEN_OUT = "member invited", "role changed", "member taken out"
DOCUMENTS_REMOVED, IN_FORCE = "documents removed", "recipe put in force"
IMPORT_STARTED, OUTLINE_CORRECTED = "import started", "outline corrected"
EVENT_TAKEN_BACK, QUESTIONS_IMPORTED = "change taken back", "questions imported"
SUGGESTION_TAKEN, SUGGESTION_REFUSED = "suggestion taken", "suggestion refused"
SUGGESTION_OPENED, POOL_MADE, POOL_REMOVED = "suggestion opened again", "pool made", "pool removed"
PASSAGE_JUDGED, JUDGEMENT_TAKEN_BACK, PASSAGE_SETTLED = "passage judged", "judgement taken back", "passage settled"
SET_MADE, SET_CHANGED, SET_REMOVED = "question set made", "question set changed", "question set removed"
QUESTION_WRITTEN, QUESTION_CHANGED, QUESTION_REMOVED = "question written", "question changed", "question removed"
LABEL_GIVEN, LABEL_CHANGED, LABEL_REMOVED = "label given", "label changed", "label removed"
GATE_MADE, GATE_REMOVED, GATE_CLOSED, GATE_OPENED = "gate made", "gate removed", "gate closed", "gate opened"
RUN_ADDED, RUN_REMOVED = "run added", "run removed"
PUBLISHED, TAKEN_DOWN, RELEASED, RELEASED_BACK = "published", "taken down", "version released", "version put back"
PUT_BESIDE, KEEPING_CHANGED = "second version changed", "keeping of questions changed"
KEY_MADE, KEY_TAKEN_BACK = "key made", "key taken back"
# What people made of questions by hand.
BY_HAND = (
    QUESTION_WRITTEN, QUESTION_CHANGED, QUESTION_REMOVED, QUESTIONS_IMPORTED,
    LABEL_GIVEN, LABEL_CHANGED, LABEL_REMOVED,
    SUGGESTION_TAKEN, PASSAGE_JUDGED, PASSAGE_SETTLED,
)  # fmt: skip


def note(
    kind: str,
    request: HttpRequest | None = None,
    *,
    who: User | None = None,
    name: str = "",
    workspace: Workspace | None = None,
    **about: Any,
) -> Event:
    """Write down what somebody did.

    Parameters
    ----------
    request : HttpRequest or None
        Says from which address, and who, where `who` does not.
    name : str
        As it was typed, where nobody is known by it.
    about : JSON values
    """
    user = who or getattr(request, "user", None)
    user = user if user is not None and user.is_authenticated else None
    return Event.objects.create(
        kind=kind,
        name=(name or (user.get_username() if user else ""))[:150],
        who=user,
        address=address_of(request),
        workspace=workspace,
        about=about,
    )


def address_of(request: HttpRequest | None) -> str | None:
    """Where a request comes from: the other end of the connection, whatever headers say."""
    return (request.META.get("REMOTE_ADDR") or None) if request is not None else None
