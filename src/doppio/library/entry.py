"""Links that sign a person in once."""

import hashlib
import secrets
from datetime import timedelta

from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from doppio.library.models import EntryLink

LINK_LASTS = timedelta(hours=12)


def make_entry_link(user: User) -> str:
    """A secret that signs this person in once, within twelve hours."""
    EntryLink.objects.filter(created_at__lt=timezone.now() - LINK_LASTS).delete()
    secret = secrets.token_urlsafe(24)
    EntryLink.objects.create(user=user, digest=secret_digest(secret))
    return secret


def use_entry_link(secret: str) -> User | None:
    """The person whose link this is; the link is used up by it. None if it was used, is too old or unknown."""
    with transaction.atomic():
        link = (
            EntryLink.objects.select_for_update()
            .filter(digest=secret_digest(secret), created_at__gte=timezone.now() - LINK_LASTS)
            .select_related("user")
            .first()
        )
        if link is None:
            return None
        link.delete()
        return link.user


def secret_digest(secret: str) -> str:
    """What is kept of a secret: it is random and long, and needs no slow digest."""
    return hashlib.sha256(secret.encode()).hexdigest()
