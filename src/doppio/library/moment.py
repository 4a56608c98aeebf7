"""Records of one moment: what is read one after another and has to belong together."""

from collections.abc import Iterator
from contextlib import contextmanager

from django.db import connection, transaction


@contextmanager
def of_one_moment() -> Iterator[None]:
    """A transaction in which all that is read is as it was at its first statement.

    Within another transaction it is that one, and shows what that one shows.
    """
    with transaction.atomic():
        if not connection.savepoint_ids:
            with connection.cursor() as cursor:
                cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        yield
