"""Tests whose records are committed, so that other processes and threads see them."""

from django.db import connection
from django.test import TransactionTestCase

# What comes with the tables: laid by migrations, and the same after every test.
STAYS = {"django_content_type", "auth_permission"}


class Committed(TransactionTestCase):
    """What a test leaves in the tables is taken away after it."""

    def _fixture_teardown(self):
        names = set(connection.introspection.django_table_names(only_existing=True, include_views=False)) - STAYS
        with connection.cursor() as cursor:
            cursor.execute(" UNION ALL ".join(f"SELECT '{name}' WHERE EXISTS (SELECT FROM {name})" for name in names))
            full = [name for (name,) in cursor.fetchall()]
            if full:
                cursor.execute(f"TRUNCATE {', '.join(full)} CASCADE")
