"""Guessing passwords is made slow: after some failures for a name or from an address, the next try has to wait."""

from datetime import datetime, timedelta

from django.db.models import Count, Max
from django.utils import timezone

from doppio.library.events import SIGN_IN_FAILED, SIGNED_IN
from doppio.library.models import Event

# Failures that cost nothing; each one more doubles the wait. Several people may share an address.
FREE_BY_NAME, FREE_BY_ADDRESS = 3, 15
FIRST_WAIT, LONGEST_WAIT = timedelta(seconds=2), timedelta(minutes=15)
REMEMBERED = timedelta(hours=1)


def wait(failures: int, free: int) -> timedelta:
    """How long after the last of so many failures the next try may come."""
    if failures < free:
        return timedelta(0)
    return min(LONGEST_WAIT, FIRST_WAIT * 2 ** min(failures - free, 20))


def seconds_to_wait(name: str, address: str | None, now: datetime | None = None) -> int:
    """Seconds until the next try for this name from this address is looked at; 0 if it is at once."""
    now = now or timezone.now()
    until = max(
        _until(now, FREE_BY_NAME, name=name[:150]),
        _until(now, FREE_BY_ADDRESS, address=address) if address else now,
    )
    left = (until - now).total_seconds()
    return int(left) + 1 if left > 0 else 0


def _until(now: datetime, free: int, **of: str) -> datetime:
    since = now - REMEMBERED
    known = Event.objects.filter(**of, at__gt=since)
    # Who knows one password of an address may still be guessing another one.
    well = known.filter(kind=SIGNED_IN).aggregate(last=Max("at"))["last"] if "name" in of else None
    failed = known.filter(kind=SIGN_IN_FAILED, at__gt=well or since).aggregate(count=Count("pk"), last=Max("at"))
    return failed["last"] + wait(failed["count"], free) if failed["count"] else now
