"""How corrections of outlines are taken back out of the history."""

from django.contrib.auth.models import User

from doppio.core.text.outline import Correction
from doppio.library.events import OUTLINE_CORRECTED
from doppio.library.history import HistoryError, can_take_back
from doppio.library.models import Event, Workspace
from doppio.library.services import correct_outline


def connect() -> None:
    """Tell the history what can be taken back here."""
    can_take_back((OUTLINE_CORRECTED,), _outline_corrected)


def _outline_corrected(workspace: Workspace, event: Event, who: User) -> None:
    found = workspace.documents.filter(name=event.about["document"]).first()
    if found is None or found.corrections != event.about["after"]:
        raise HistoryError("The document went, or its outline was corrected again since.")
    correct_outline(found, [Correction.from_json(body) for body in event.about["before"]])
