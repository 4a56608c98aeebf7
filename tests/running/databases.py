"""One prepared database, copied for everyone who wants one of their own."""

import hashlib
import os
import time
from collections.abc import Callable
from pathlib import Path

import psycopg
from django.conf import settings
from django.core.management import call_command
from django.db import connection, connections

from doppio.launch.places import ROOT

PREFIX, TRIES = "empty_", 100


def template(made: Callable[[], None] = lambda: None) -> str:
    """The name of a database with all tables and no records; made once for these migrations, and told to `made`."""
    name = PREFIX + _digest()
    with _server() as server:
        known = {row[0] for row in server.execute("SELECT datname FROM pg_database")}
        if name in known:
            return name
        for old in (other for other in known if other.startswith(PREFIX)):
            server.execute(f'DROP DATABASE "{old}" WITH (FORCE)')
        server.execute(f'CREATE DATABASE "{name}.draft"')
    use(f"{name}.draft")
    call_command("migrate", verbosity=0, interactive=False)
    connections.close_all()
    with _server() as server:
        server.execute(f'ALTER DATABASE "{name}.draft" RENAME TO "{name}"')
    made()
    return name


def copy(source: str, target: str) -> None:
    """Make a database as another one is; one of that name is dropped. Neither may be in use by this process."""
    connections.close_all()
    with _server() as server:
        _let_finish(server, target)
        server.execute(f'DROP DATABASE IF EXISTS "{target}" WITH (FORCE)')
        server.execute(f'CREATE DATABASE "{target}" TEMPLATE "{source}"')


def _let_finish(server: psycopg.Connection, name: str) -> None:
    """Let a web server of this process answer what it has been asked; idle connections do not matter."""
    busy = "SELECT count(*) FROM pg_stat_activity WHERE datname = %s AND state <> 'idle'"
    for _ in range(TRIES):
        if server.execute(busy, [name]).fetchone() == (0,):
            return
        time.sleep(0.02)


def use(name: str) -> None:
    """Let Django speak to this database from now on."""
    connections.close_all()
    settings.DATABASES["default"]["NAME"] = name
    connection.settings_dict["NAME"] = name


def _server() -> psycopg.Connection:
    d = settings.DATABASES["default"]
    return psycopg.connect(
        host=d["HOST"], port=d["PORT"], user=d["USER"], password=d["PASSWORD"], dbname="postgres", autocommit=True
    )


def _digest() -> str:
    """Of all migrations of ours, and of the packages that bring their own."""
    paths = sorted((ROOT / "src").glob("doppio/*/migrations/*.py"))
    digest = hashlib.blake2b(digest_size=8)
    for path in (*paths, ROOT / "requirements.txt"):
        digest.update(os.fsencode(path.name) + b"\0" + Path(path).read_bytes() + b"\0")
    return digest.hexdigest()
