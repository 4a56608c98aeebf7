"""Statements that every question runs: planned once on each connection, since planning takes longer than they do."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

import psycopg
from django.db import connection
from django.db.backends.utils import CursorWrapper


class _Planned(psycopg.Cursor[Any]):
    def execute(self, query: Any, params: Sequence[Any] | Mapping[str, Any] | None = None, **told: Any) -> "_Planned":
        return super().execute(query, params, **{**told, "prepare": True})


@contextmanager
def planned_once() -> Iterator[CursorWrapper]:
    """A cursor as `connection.cursor()` gives it, which prepares what it executes.

    For statements whose text is always the same: the server keeps a plan for each.
    """
    with connection.cursor() as cursor:
        # Statements that are written down need the words of those that others' cursors send.
        if not connection.queries_logged:
            cursor.cursor = _Planned(cursor.connection)
        yield cursor
