"""Keys of assistants: made, found by their secret, and counted against their limits."""

import random
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from django.contrib.auth.models import User
from django.db import connection, transaction
from django.http import HttpRequest
from django.utils import timezone
from rest_framework.exceptions import AuthenticationFailed, PermissionDenied

from doppio.core.errors import DoppioError
from doppio.jobs.turns import Busy
from doppio.library.entry import secret_digest
from doppio.library.planned import planned_once
from doppio.serving.known import known_keys
from doppio.serving.models import Key, Published

BEGINS = "dop-"
SHOWN = 10
LONGEST_NAME, MOST_A_DAY = 80, 100_000_000


@dataclass(frozen=True)
class Limits:
    """How often a key may ask, and until when; None where it may always."""

    a_minute: int | None = None
    a_day: int | None = None
    expires_at: datetime | None = None


def make_key(
    published: Published, name: str, scopes: Sequence[str], limits: Limits, user: User | None
) -> tuple[Key, str]:
    """A new key and its secret, which nobody can be told again.

    Raises
    ------
    DoppioError
        If it has no name, may do nothing or something unknown, or has ended already.
    """
    name = name.strip()[:LONGEST_NAME]
    if not name:
        raise DoppioError("name: a key needs one, such as that of the assistant that has it")
    unknown = set(scopes) - set(Key.SCOPES)
    if unknown or not scopes:
        told = f"{', '.join(sorted(unknown))} is unknown" if unknown else "a key must be for something"
        raise DoppioError(f"scopes: {told}; there are {', '.join(Key.SCOPES)}")
    for field in ("a_minute", "a_day"):
        value = getattr(limits, field)
        if value is not None and not 1 <= value <= MOST_A_DAY:
            raise DoppioError(f"{field}: {value} is not between 1 and {MOST_A_DAY}")
    if limits.expires_at is not None and limits.expires_at <= timezone.now():
        raise DoppioError("expires_at: that is over already")
    secret = BEGINS + secrets.token_urlsafe(30)
    made = Key.objects.create(
        published=published, name=name, digest=secret_digest(secret), begins=secret[:SHOWN],
        scopes=sorted(set(scopes)), a_minute=limits.a_minute, a_day=limits.a_day,
        expires_at=limits.expires_at, draw=random.random(), made_by=user,
    )  # fmt: skip
    return made, secret


def key_of(request: HttpRequest, name: str, scope: str) -> Key:
    """The key that a request carries, as `Authorization: Bearer ...`, where it may do what is asked.

    Raises
    ------
    AuthenticationFailed
        If there is none, or it is not one of what is published under this name; nobody is told which.
    PermissionDenied
        If it is not for this.
    """
    kind, _, secret = request.headers.get("Authorization", "").partition(" ")
    if kind.lower() != "bearer" or not secret.strip():
        raise AuthenticationFailed("Send a key as 'Authorization: Bearer dop-...'.")
    found = known_keys.get(secret_digest(secret.strip()), name)
    if found is None or found.revoked_at is not None:
        raise AuthenticationFailed("This key is not known here, or was taken back.")
    if found.expires_at is not None and found.expires_at <= timezone.now():
        raise AuthenticationFailed(f"This key ended on {found.expires_at:%d %B %Y}.")
    if scope not in found.scopes:
        raise PermissionDenied(f"This key is for {', '.join(found.scopes)}, and not for {scope}.")
    return found


def count_use(key: Key, now: datetime | None = None) -> None:
    """Count a question against the limits of its key; all processes count in the same place.

    Raises
    ------
    Busy
        If there are too many; says when to come back.
    """
    now = now or timezone.now()
    minute = now.hour * 60 + now.minute
    with planned_once() as cursor:
        # Losing the last moment's counts in a crash is better than a disk write for each question.
        cursor.execute(
            "INSERT INTO serving_use (key_id, day, minute, asked, refused) "
            "SELECT %s, %s, %s, 1, 0 FROM set_config('synchronous_commit', 'off', true) "
            "ON CONFLICT (key_id, day, minute) DO UPDATE SET asked = serving_use.asked + 1 RETURNING asked",
            [key.pk, now.date(), minute],
        )
        own = cursor.fetchone()[0]
        today = 0
        if key.a_day is not None:
            cursor.execute("SELECT sum(asked) FROM serving_use WHERE key_id = %s AND day = %s", [key.pk, now.date()])
            today = cursor.fetchone()[0]
        wait = 0.0
        if key.a_day is not None and today > key.a_day:
            midnight = now.replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1)
            wait = (midnight - now).total_seconds()
        elif key.a_minute is not None and own > key.a_minute:
            wait = 60 - now.second
        if wait:
            cursor.execute(
                "UPDATE serving_use SET asked = asked - 1, refused = refused + 1 "
                "WHERE key_id = %s AND day = %s AND minute = %s",
                [key.pk, now.date(), minute],
            )
    if wait:
        raise Busy(wait, f"This key may ask {_told(key)}")


def _told(key: Key) -> str:
    told = [f"{key.a_minute:,} times a minute"] if key.a_minute is not None else []
    told += [f"{key.a_day:,} times a day"] if key.a_day is not None else []
    return " and ".join(told)


def fold(now: datetime) -> None:
    """Add up the minutes of days that are over, one row a key and day."""
    today = now.date()
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(
            "WITH gone AS (DELETE FROM serving_use WHERE day < %s AND minute < %s RETURNING key_id, day, asked, "
            "refused) INSERT INTO serving_use (key_id, day, minute, asked, refused) "
            "SELECT key_id, day, %s, sum(asked), sum(refused) FROM gone GROUP BY key_id, day "
            "ON CONFLICT (key_id, day, minute) DO UPDATE SET asked = serving_use.asked + excluded.asked, "
            "refused = serving_use.refused + excluded.refused",
            [today, WHOLE_DAY, WHOLE_DAY],
        )


# The row of a day that is over has no minute of its own.
WHOLE_DAY = 1440
