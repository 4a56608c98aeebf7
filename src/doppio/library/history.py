"""What people did in a workspace: looked through, and taken back where that can be."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Q, QuerySet

from doppio.core.errors import DoppioError
from doppio.library.models import Event, Membership, Role, Workspace

# By kind of event: what takes one back. It raises a `DoppioError` where things are no longer as the event left them.
TakeBack = Callable[[Workspace, Event, User], None]
_ways: dict[str, TakeBack] = {}
# Kinds of events that judges must not see of each other.
_blind: set[str] = set()
TAKEN_BACK = "taken back"


class HistoryError(DoppioError):
    """What was done cannot be taken back: the message says why."""


def can_take_back(kinds: tuple[str, ...], way: TakeBack) -> None:
    """Say how events of some kinds are taken back; each app says it of its own."""
    _ways.update(dict.fromkeys(kinds, way))


def kept_blind(kinds: tuple[str, ...]) -> None:
    """Say which kinds of events only editors, and those who did it, may see."""
    _blind.update(kinds)


def seen_by(member: Membership) -> QuerySet[Event]:
    """The events of a workspace that a member may see."""
    rows = member.workspace.events.all()
    return rows if member.role >= Role.EDITOR else rows.exclude(Q(kind__in=_blind) & ~Q(who=member.user))


def looked_through(
    rows: QuerySet[Event], *, before: int | None, who: str, kind: str, words: str, since: datetime | None, count: int
) -> list[Event]:
    """Events newest first, and one more than was asked for where there are more.

    Parameters
    ----------
    words : str
        Stands anywhere in what the event is about.
    """
    if before is not None:
        rows = rows.filter(pk__lt=before)
    if who:
        rows = rows.filter(name=who)
    if kind:
        rows = rows.filter(kind=kind)
    if since is not None:
        rows = rows.filter(at__gte=since)
    for word in words.split():
        rows = rows.filter(Q(about__icontains=word) | Q(kind__icontains=word))
    return list(rows[: count + 1])


def may_be_taken_back(event: Event) -> bool:
    return event.kind in _ways and not event.about.get(TAKEN_BACK)


@transaction.atomic
def take_back(workspace: Workspace, event: Event, who: User) -> None:
    """Undo what an event tells of, and mark it.

    Raises
    ------
    HistoryError
        If events of this kind cannot be taken back, or this one was, or things have changed since.
    """
    if event.kind not in _ways:
        raise HistoryError(f"{event.kind}: this cannot be taken back")
    if event.about.get(TAKEN_BACK):
        raise HistoryError("This was taken back already.")
    _ways[event.kind](workspace, event, who)
    event.about = {**event.about, TAKEN_BACK: who.get_username()}
    event.save(update_fields=["about"])


def options(rows: QuerySet[Event]) -> dict[str, Any]:
    """Whose events there are, and of which kinds."""
    rows = rows.order_by()
    return {
        "people": sorted(set(rows.values_list("name", flat=True)) - {""}),
        "kinds": sorted(set(rows.values_list("kind", flat=True))),
    }
