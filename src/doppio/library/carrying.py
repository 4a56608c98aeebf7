"""A workspace as one file, `doppio-workspace/1`: a ZIP with a table of JSON lines for each part, and the files.

Each app says what of a workspace it keeps, as a part of its own. Whatever refers to something names it as it is named
in the workspace: numbers of one database mean nothing in another.
"""

import json
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, Protocol

from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from django.db import Error as DatabaseError
from django.db import transaction
from django.utils import timezone

from doppio.core.errors import DoppioError
from doppio.core.progress import Progress, Silent
from doppio.library import files
from doppio.library.models import Role, Workspace
from doppio.library.moment import of_one_moment
from doppio.library.workspaces import WorkspaceError, free_name_like

FORMAT = "doppio-workspace/1"
MANIFEST, FILES = "manifest.json", "files"
LARGEST, MOST_ENTRIES = 8 << 30, 500_000
# A file that can be imported has 200 MiB at most, and its text as JSON hardly more.
LARGEST_FILE, LONGEST_LINE = 256 << 20, 512 << 20
# What rows of another shape than was written raise.
_WRONG = (KeyError, TypeError, ValueError, AttributeError, AssertionError, DatabaseError)
# What reading raises where bytes are missing, others than were written, or packed in a way that is not read.
_DAMAGED = (
    zipfile.BadZipFile, zlib.error, EOFError, OSError, UnicodeDecodeError, json.JSONDecodeError, RuntimeError,
    NotImplementedError,
)  # fmt: skip
Row = dict[str, Any]


class People:
    """Whoever is named in a file, as an account here; somebody unknown gets one that nobody can sign in with yet."""

    def __init__(self) -> None:
        self._known: dict[str, User] = {}

    def of(self, name: str | None) -> User | None:
        if not name:
            return None
        if name not in self._known:
            found = User.objects.filter(username=name).first()
            if found is None:
                found = User(username=name, is_active=False)
                found.set_unusable_password()
                try:
                    found.full_clean(exclude=["password"])
                except ValidationError:
                    raise ValueError(f"{name!r} cannot be somebody's name here") from None
                found.save()
            self._known[name] = found
        return self._known[name]


class Part(Protocol):
    """What one app keeps of a workspace.

    name : of the table, `name.jsonl`
    """

    name: str

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        """All of it, in an order in which it can be taken."""

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        """Keep what `rows` gave elsewhere; parts that were registered before are there already."""


_parts: list[Part] = []


def carried(part: Part) -> None:
    """Register a part; in the order in which they are taken."""
    _parts.append(part)


class Attachment(Protocol):
    """What an app can put beside the tables where it is wanted, such as built indexes."""

    def write(self, workspace: Workspace, out: zipfile.ZipFile, progress: Progress) -> None: ...

    def read(self, workspace: Workspace, source: zipfile.ZipFile, progress: Progress) -> None:
        """Keep what of it is sound; called once the workspace is there."""


_attachments: list[Attachment] = []


def attached(attachment: Attachment) -> None:
    """Register an attachment."""
    _attachments.append(attachment)


def pack(workspace: Workspace, path: Path, progress: Progress | None = None, *, attachments: bool = False) -> Row:
    """Write a workspace into a file, as it is at one moment; returns what the file says of itself."""
    progress = progress or Silent()
    with of_one_moment(), zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as out:
        files.hold_still()
        counts: dict[str, int] = {}
        digests: dict[str, str] = dict(workspace.files.values_list("digest", "name"))
        progress.start("write files", len(digests), "files")
        for digest, name in digests.items():
            # Most formats are compressed already.
            out.writestr(zipfile.ZipInfo(f"{FILES}/{digest}"), files.kept(digest, name), zipfile.ZIP_STORED)
            progress.advance(1)
        for part in _parts:
            counts[part.name] = 0
            with out.open(f"{part.name}.jsonl", "w", force_zip64=True) as table:
                for row in part.rows(workspace):
                    table.write(json.dumps(row, ensure_ascii=False).encode() + b"\n")
                    counts[part.name] += 1
        about = {"format": FORMAT, "name": workspace.name, "made_at": timezone.now().isoformat(),
                 "marked": workspace.marked, "rows": counts, "files": len(digests)}  # fmt: skip
        for attachment in _attachments if attachments else ():
            attachment.write(workspace, out, progress)
        out.writestr(MANIFEST, json.dumps(about, indent=1))
    return about


def unpack(
    path: Path, owner: User, name: str = "", progress: Progress | None = None, *, attachments: bool = False
) -> Workspace:
    """Make a workspace of a file: all of it, or nothing.

    Parameters
    ----------
    attachments : bool
        Whether attachments are taken: they are shared by all workspaces, so only an operator may bring them.

    Raises
    ------
    WorkspaceError
        If it is no such file, is damaged, or holds what no workspace can; names the table and the line.
    """
    progress = progress or Silent()
    kept: list[str] = []
    try:
        with _readable(path) as source, transaction.atomic():
            about = json.loads(source.read(MANIFEST))
            if not isinstance(about, dict) or about.get("format") != FORMAT:
                raise WorkspaceError(f"{path.name}: {MANIFEST}: no {FORMAT}")
            files.hold_still()
            kept += _files(source, path.name, progress)
            made = Workspace.objects.create(name=free_name_like(name or str(about.get("name", "Imported"))))
            made.memberships.create(user=owner, role=Role.OWNER)
            people = People()
            rows = about.get("rows", {})
            for part in _parts:
                if f"{part.name}.jsonl" not in source.namelist():
                    continue
                progress.start(f"read {part.name}", int(rows.get(part.name, 0)), "rows")
                table = _Table(source, part.name, progress)
                try:
                    part.take(made, iter(table), people)
                except _WRONG as error:
                    raise WorkspaceError(f"{part.name}.jsonl, line {table.line}: {_reason(error)}") from error
            made.marked = int(about.get("marked", 0))
            made.save(update_fields=["marked"])
        if attachments:
            with _readable(path) as source:
                for attachment in _attachments:
                    attachment.read(made, source, progress)
        return made
    except _DAMAGED as error:
        raise WorkspaceError(f"{path.name}: damaged ({error})") from error
    except DoppioError:
        raise
    except (KeyError, TypeError, ValueError) as error:
        raise WorkspaceError(f"{path.name}: {MANIFEST}: {_reason(error)}") from error
    finally:
        # Bytes that no record came to need; those of a workspace that was made are needed.
        files.forget(kept)


class _Table:
    """Rows of a table, and the line that was read last."""

    def __init__(self, source: zipfile.ZipFile, name: str, progress: Progress) -> None:
        self._source, self._name, self._progress = source, name, progress
        self.line = 0

    def __iter__(self) -> Iterator[Row]:
        with self._source.open(f"{self._name}.jsonl") as table:
            while line := table.readline(LONGEST_LINE):
                self.line += 1
                if len(line) == LONGEST_LINE:
                    raise ValueError(f"longer than {LONGEST_LINE:,} bytes")
                row = json.loads(line)
                if not isinstance(row, dict):
                    raise ValueError("not a JSON object")
                yield row
                self._progress.advance(1)


def _files(source: zipfile.ZipFile, name: str, progress: Progress) -> Iterator[str]:
    entries = [entry for entry in source.infolist() if entry.filename.startswith(f"{FILES}/")]
    progress.start("read files", len(entries), "files")
    for entry in entries:
        if entry.file_size > LARGEST_FILE:
            raise WorkspaceError(
                f"{name}: {entry.filename}: {entry.file_size:,} bytes; at most {LARGEST_FILE:,} are read"
            )
        data = source.read(entry)
        digest = entry.filename.removeprefix(f"{FILES}/")
        if files.file_digest(data) != digest:
            raise WorkspaceError(f"{name}: {entry.filename}: not what was written")
        yield files.keep(data)
        progress.advance(1)


@contextmanager
def _readable(path: Path) -> Iterator[zipfile.ZipFile]:
    with zipfile.ZipFile(path) as source:
        entries = source.infolist()
        if MANIFEST not in source.namelist():
            raise WorkspaceError(f"{path.name}: no workspace; {MANIFEST} is not in it")
        size = sum(entry.file_size for entry in entries)
        if size > LARGEST or len(entries) > MOST_ENTRIES:
            raise WorkspaceError(
                f"{path.name}: {size:,} bytes in {len(entries):,} entries; at most {LARGEST:,} are read"
            )
        yield source


def _reason(error: Exception) -> str:
    if isinstance(error, KeyError):
        return f"{error} is missing"
    return " ".join(str(error).split())[:300] or type(error).__name__


def batches(rows: Iterator[Row], size: int = 100) -> Iterator[list[Row]]:
    """Rows some at a time, so that they are written with one statement."""
    while some := list(islice(rows, size)):
        yield some


def fields_of(row: Mapping[str, Any], *names: str) -> Row:
    """Some of the fields of a row; each has to be there."""
    return {name: row[name] for name in names}
