"""Who works with the demo, and the way in."""

from django.contrib.auth.models import User

from doppio.library.entry import make_entry_link

PERSON = "engineer"


def entry_link() -> str | None:
    """The secret of a fresh one-time link for the demo's person, if there is one."""
    user = User.objects.filter(username=PERSON).first()
    return make_entry_link(user) if user else None
