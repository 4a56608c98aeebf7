"""Backups: the database by PostgreSQL's own dump, and the files that records name, together in one ZIP.

A dump is made over a snapshot; the files are linked beside it while nobody may delete one, so every file that a
record of the dump names is in the backup. Indexes are not: they are built again from the records.
"""

import hashlib
import json
import os
import shutil
import tempfile
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any

import psycopg
import typer

from doppio.command.paths import VAR
from doppio.command.show import err, out
from doppio.core.errors import DoppioError
from doppio.launch.cluster import DATABASE, Cluster
from doppio.launch.lock import Lock, Taken
from doppio.launch.places import SERVED
from doppio.launch.programs import run
from doppio.library.files import FORGETTING

FORMAT = "doppio-backup/1"
MANIFEST, DUMP, FILES = "manifest.json", "database.dump", "files"
READ_BYTES = 1 << 20
# What reading raises where bytes are missing or others than were written.
DAMAGED = (
    OSError, EOFError, zipfile.BadZipFile, zlib.error, KeyError, ValueError, TypeError, AttributeError, RuntimeError,
    NotImplementedError,
)  # fmt: skip
KEPT = 5
COUNTED = ("library_workspace", "library_document", "questions_question", "questions_answerspan",
           "recipes_recipeversion", "trials_trialrecord")  # fmt: skip
Told = Callable[[str], None]


def backup(file: Annotated[Path, typer.Argument(help="The ZIP to write.")]) -> None:
    """Write a backup of all records and files, whether Doppio runs or not."""
    cluster = Cluster(VAR)
    with running(cluster):
        about = write(cluster, VAR / "files", file.resolve())
    documents, questions = about["rows"].get("library_document", 0), about["rows"].get("questions_question", 0)
    size = file.stat().st_size / (1 << 20)
    out.print(
        f"{file}: {documents:,} documents, {questions:,} questions, {len(about['files']):,} files, {size:,.1f} MiB, "
        "read again and found whole"
    )


def restore(
    file: Annotated[Path, typer.Argument(help="A ZIP that './doppio backup' wrote.")],
) -> None:
    """Put records and files back as a backup has them; what is there now is kept aside."""
    lock = Lock(SERVED)
    try:
        lock.take(command="restore", state="starting")
    except Taken as taken:
        where = taken.holder.get("address", "it is being started")
        raise DoppioError(
            f"Doppio runs in {VAR} ({where}); stop it first, so that nothing is written meanwhile"
        ) from None
    cluster = Cluster(VAR)
    with running(cluster):
        about, kept = read(cluster, VAR / "files", file.resolve())
    out.print(f"{file}, made {about['made_at']}: {len(about['files']):,} files and all records are back.")
    out.print(f"What was there before is kept: {kept}. Indexes that are missing are built by the next trial.")


@contextmanager
def running(cluster: Cluster) -> Iterator[None]:
    """The server of a cluster, started if it does not run, and stopped then."""
    said = cluster.start()
    try:
        yield
    finally:
        if not said.startswith("runs"):
            cluster.stop()


def write(cluster: Cluster, files: Path, target: Path) -> dict[str, Any]:
    """Write a backup and read it again; returns its manifest. A file that is there is never written over.

    Raises
    ------
    DoppioError
        If there is a file already, it cannot be written, or what was written does not read as it should.
    """
    if target.exists():
        raise DoppioError(f"{target}: is there already; choose another name")
    target.parent.mkdir(parents=True, exist_ok=True)
    draft = target.with_name(f".{target.name}.draft")
    try:
        with tempfile.TemporaryDirectory(dir=files.parent, prefix=".backup-") as folder:
            place = Path(folder)
            about = _collect(cluster, files, place)
            _pack(place, draft, about)
        verify(draft)
        draft.rename(target)
    except OSError as error:
        raise DoppioError(f"{target}: cannot be written ({error.strerror or error})") from error
    finally:
        draft.unlink(missing_ok=True)
    return about


def _collect(cluster: Cluster, files: Path, place: Path) -> dict[str, Any]:
    environment = cluster.admin_environment()
    with psycopg.connect(
        host="127.0.0.1", port=cluster.port, user=cluster.admin, password=environment["PGPASSWORD"], dbname=DATABASE
    ) as connection:
        connection.isolation_level = psycopg.IsolationLevel.REPEATABLE_READ
        # Taken before the snapshot: whoever deletes files after it waits, whoever did before is not in it.
        connection.execute("SELECT pg_advisory_xact_lock_shared(%s)", [FORGETTING])
        snapshot = connection.execute("SELECT pg_export_snapshot()").fetchone()[0]  # type: ignore[index]
        rows = {table: _count(connection, table) for table in COUNTED}
        linked = dict(_link(files, place / FILES))
        dump = [*cluster.as_admin("pg_dump", DATABASE), "-Fc", f"--snapshot={snapshot}", "-f", str(place / DUMP)]
        run(dump, "the dump of the database", env=environment)
    return {
        "format": FORMAT,
        "made_at": datetime.now(UTC).isoformat(timespec="seconds"),
        "postgresql": cluster.version,
        "rows": {table: count for table, count in rows.items() if count is not None},
        "database": _digest(place / DUMP),
        "files": linked,
    }


def _count(connection: psycopg.Connection, table: str) -> int | None:
    if connection.execute("SELECT to_regclass(%s)", [table]).fetchone() == (None,):
        return None
    return connection.execute(f"SELECT count(*) FROM {table}").fetchone()[0]  # type: ignore[index]


def _link(files: Path, target: Path) -> Iterator[tuple[str, str]]:
    """The same files in another folder, by links; names and digests."""
    for path in sorted(files.rglob("*")) if files.is_dir() else ():
        name = path.relative_to(files)
        # Drafts begin with a dot; pictures of pages are drawn again.
        if path.is_file() and not path.name.startswith(".") and name.parts[0] != "pages":
            (target / name).parent.mkdir(parents=True, exist_ok=True)
            os.link(path, target / name)
            yield name.as_posix(), _digest(target / name)


def _pack(place: Path, target: Path, about: dict[str, Any]) -> None:
    handle = os.open(target, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(handle, "w+b") as file:
        with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
            archive.writestr(MANIFEST, json.dumps(about, indent=1))
            archive.write(place / DUMP, DUMP, zipfile.ZIP_STORED)
            for name in about["files"]:
                archive.write(place / FILES / name, f"{FILES}/{name}")
        file.flush()
        os.fsync(file.fileno())


def verify(path: Path) -> dict[str, Any]:
    """The manifest of a backup that is whole.

    Raises
    ------
    DoppioError
        If it is none, or one of its parts is missing or is not what was written; names it.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            about = json.loads(archive.read(MANIFEST))
            if about.get("format") != FORMAT:
                raise DoppioError(f"{path}: of format {about.get('format')!r}; this is {FORMAT}")
            wanted = {
                DUMP: about["database"],
                **{f"{FILES}/{name}": digest for name, digest in about["files"].items()},
            }
            for name, digest in wanted.items():
                with archive.open(name) as file:
                    if _digest_of(file) != digest:
                        raise DoppioError(f"{path}: {name} is not what was written")
    except DAMAGED as error:
        raise DoppioError(f"{path}: is no whole backup ({error})") from error
    return dict(about)


def read(cluster: Cluster, files: Path, source: Path) -> tuple[dict[str, Any], str]:
    """Bring a backup in beside what is there, and change places when all of it is in.

    Returns
    -------
    about : manifest
    kept : str
        Where what was there before is kept.

    Raises
    ------
    DoppioError
        If the backup is not whole or cannot be brought in; nothing has changed then.
    """
    about = verify(source)
    mark = time.strftime("%Y%m%d_%H%M%S")
    fresh, old = f"{DATABASE}_fresh", f"{DATABASE}_{mark}"
    folder, aside = files.with_name(".files-fresh"), files.with_name(f"files.kept-{mark}")
    shutil.rmtree(folder, ignore_errors=True)
    cluster.sql(f"DROP DATABASE IF EXISTS {fresh}")
    try:
        with tempfile.TemporaryDirectory(dir=files.parent, prefix=".restore-") as place:
            with zipfile.ZipFile(source) as archive:
                archive.extract(DUMP, place)
                for name in about["files"]:
                    _put(archive, f"{FILES}/{name}", folder / name)
            cluster.sql(f"CREATE DATABASE {fresh} OWNER {cluster.role} TEMPLATE template0")
            command = [
                *cluster.as_admin("pg_restore", fresh),
                "--no-owner",
                f"--role={cluster.role}",
                "--exit-on-error",
            ]
            run([*command, str(Path(place) / DUMP)], "bringing the database in", env=cluster.admin_environment())
        folder.mkdir(exist_ok=True)
        cluster.sql(f"ALTER DATABASE {DATABASE} RENAME TO {old}")
        cluster.sql(f"ALTER DATABASE {fresh} RENAME TO {DATABASE}")
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        if cluster.sql(f"SELECT 1 FROM pg_database WHERE datname = '{DATABASE}'") == "":
            cluster.sql(f"ALTER DATABASE {old} RENAME TO {DATABASE}")
        cluster.sql(f"DROP DATABASE IF EXISTS {fresh}")
        raise
    # Files are named by their digests: until the folders have changed places the old ones only lack some.
    if files.exists():
        files.rename(aside)
    folder.rename(files)
    return about, f"the database as {old}, the files in {aside}"


def _put(archive: zipfile.ZipFile, name: str, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    with archive.open(name) as source, target.open("wb") as file:
        shutil.copyfileobj(source, file, READ_BYTES)


def before_migration(cluster: Cluster, var: Path, told: Told = lambda text: err.print(text)) -> None:
    """Write a backup to `backups/` before tables are changed; the newest few are kept."""
    folder = var / "backups"
    name = folder / f"before-migration-{time.strftime('%Y%m%d-%H%M%S')}.zip"
    write(cluster, var / "files", name)
    told(f"    tables are about to change; a backup is in {name}")
    for old in sorted(folder.glob("before-migration-*.zip"))[:-KEPT]:
        old.unlink()


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return _digest_of(file)


def _digest_of(file: Any) -> str:
    digest = hashlib.blake2b(digest_size=20)
    while part := file.read(READ_BYTES):
        digest.update(part)
    return digest.hexdigest()
