"""How a recipe that was put in force is taken back out of the history."""

from django.contrib.auth.models import User

from doppio.library.events import IN_FORCE
from doppio.library.history import HistoryError, can_take_back
from doppio.library.models import Event, Workspace
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import put_in_force
from doppio.recipes.signals import in_force


def connect() -> None:
    """Tell the history what can be taken back here."""
    can_take_back((IN_FORCE,), _put_in_force)


def _put_in_force(workspace: Workspace, event: Event, who: User) -> None:
    """Put the one of before in force, if the one that came then still is."""
    before, after = event.about.get("before"), event.about.get("after")
    now = workspace.recipes.filter(in_force=True).first()
    if not before or now is None or {"name": now.name, "version": now.version} != after:
        raise HistoryError("Another recipe is in force by now, or none was before; choose one in the header.")
    found = workspace.recipes.get(**before)
    put_in_force(found)
    in_force.send(RecipeVersion, recipe=found, user=who)
