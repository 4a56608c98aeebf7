"""Where this installation keeps its artifacts, and what keeps those who build from doing the same twice."""

import hashlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from django.conf import settings
from django.db import connections
from django.db.backends.utils import CursorWrapper

from doppio.core.errors import DoppioError
from doppio.core.fingerprint import fingerprint
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.opened import opened_store
from doppio.core.store.shared import SharedStore

# The file of a shared store that says whose it is.
OWNER = "installation"


def local_store() -> ArtifactStore:
    """The folder of artifacts of this machine."""
    return ArtifactStore(settings.DOPPIO_ARTIFACTS)


def store() -> ArtifactStore:
    """Where artifacts are: in that folder, or where several machines share them, with a cache here."""
    return opened_store(
        settings.DOPPIO_ARTIFACTS, settings.DOPPIO_STORE, most_gb=settings.DOPPIO_CACHE_GB, locks=DatabaseLocks
    )


def reach() -> str:
    """Where artifacts are, in words, once it is sure that they can be written there and are this installation's.

    Raises
    ------
    DoppioError
        If a shared store does not answer, may not be written to, or belongs to another installation, which would take
        away what it has no record of.
    """
    found = store()
    if not isinstance(found, SharedStore):
        return f"{found.root.name}/ of this machine"
    found.far.check()
    with connections["default"].cursor() as cursor:
        # No two databases began in the same microsecond; one that was restored is the one that it was.
        cursor.execute("SELECT min(applied)::text FROM django_migrations")
        own = fingerprint(cursor.fetchone()[0]).encode()
    try:
        owner = found.far.read(OWNER)
    except FileNotFoundError:
        found.far.write(OWNER, own)
        owner = own
    if owner != own:
        raise DoppioError(
            f"{found.far.url}: belongs to another installation of Doppio, with a database of its own; give each an "
            "address of its own"
        )
    return f"{found.far.url} answers"


class DatabaseLocks:
    """Locks of the database, which all machines see that build into one store.

    Each is held by a connection of its own, so it ends with the process that holds it, and with its machine.
    """

    def __init__(self, store: str) -> None:
        self.store = store

    @contextmanager
    def hold(self, name: str) -> Iterator[None]:
        with self._connected() as cursor:
            cursor.execute("SELECT pg_advisory_lock(%s)", [self._number(name)])
            yield

    @contextmanager
    def share(self, name: str, *, alone: bool = False) -> Iterator[bool]:
        with self._connected() as cursor:
            if alone:
                cursor.execute("SELECT pg_try_advisory_lock(%s)", [self._number(name)])
                yield bool(cursor.fetchone()[0])
                return
            cursor.execute("SELECT pg_advisory_lock_shared(%s)", [self._number(name)])
            yield True

    def _number(self, name: str) -> int:
        digest = hashlib.blake2b(f"{self.store} {name}".encode(), digest_size=8).digest()
        return int.from_bytes(digest, "big", signed=True)

    @contextmanager
    def _connected(self) -> Iterator[CursorWrapper]:
        # None of this thread's own ones: whoever closes those must not let the lock go.
        connection = connections.create_connection("default")
        try:
            cursor = connection.cursor()
            # Whoever waits for a build waits as long as it takes.
            cursor.execute("SET statement_timeout = 0")
            yield cursor
        finally:
            with suppress(Exception):
                connection.close()
