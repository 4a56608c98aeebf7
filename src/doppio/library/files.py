"""Bytes of imported files, kept once by their digest."""

import hashlib
import json
import os
import shutil
import threading
import uuid
from collections.abc import Iterable, Sequence
from pathlib import Path

from django.conf import settings
from django.db import connection, transaction

from doppio.core.errors import DocumentError
from doppio.core.formats.optical import EDITION, ReadLine
from doppio.library.signals import still_needed

# A number of our own for the database's locks by number.
FORGETTING = 0x0D0991


def file_digest(data: bytes) -> str:
    return hashlib.blake2b(data, digest_size=20).hexdigest()


def place_of(digest: str) -> Path:
    return Path(settings.DOPPIO_FILES) / digest[:2] / digest


def pages_of(digest: str) -> Path:
    """Folder of the pictures of a file's pages that have been drawn."""
    return Path(settings.DOPPIO_FILES) / "pages" / digest


def keep(data: bytes) -> str:
    """Keep bytes, whole or not at all; returns their digest."""
    digest = file_digest(data)
    place = place_of(digest)
    if not place.exists():
        place.parent.mkdir(parents=True, exist_ok=True)
        draft = place.with_name(f".{digest}.{uuid.uuid4().hex}")
        try:
            with draft.open("wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            draft.rename(place)
        finally:
            draft.unlink(missing_ok=True)
    return digest


class PageReadings:
    """Lines that were read off pages of a file, kept beside the pictures of its pages."""

    def __init__(self, digest: str) -> None:
        self._folder = pages_of(digest)

    def get(self, page: int) -> list[ReadLine] | None:
        return kept_lines(self._path(page))

    def put(self, page: int, lines: Sequence[ReadLine]) -> None:
        keep_lines(self._path(page), lines)

    def _path(self, page: int) -> Path:
        return self._folder / f"words-{EDITION}-{page}.json"


def kept_lines(path: Path) -> list[ReadLine] | None:
    """Lines that were read and kept; None where there are none that can be used."""
    try:
        return [ReadLine.from_json(line) for line in json.loads(path.read_text())]
    except (FileNotFoundError, ValueError):
        return None


def keep_lines(path: Path, lines: Sequence[ReadLine]) -> None:
    """Keep lines that were read."""
    put(path, json.dumps([line.to_json() for line in lines]).encode())


def put(path: Path, data: bytes) -> None:
    """Write what is made from kept bytes and can be made again."""
    path.parent.mkdir(parents=True, exist_ok=True)
    draft = path.with_suffix(f".{threading.get_ident()}")
    draft.write_bytes(data)
    draft.rename(path)


def hold_still() -> None:
    """Until this transaction ends, nobody forgets bytes: what keeps some has time to say that it needs them."""
    _lock("pg_advisory_xact_lock_shared")


def _lock(function: str) -> None:
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT {function}(%s)", [FORGETTING])


@transaction.atomic
def forget(digests: Iterable[str]) -> None:
    """Delete the bytes, and the pictures of their pages, that nothing in any workspace needs any more."""
    from doppio.library.models import DocumentVersion, SourceFile

    wanted = {digest for digest in digests if digest}
    if not wanted:
        return
    _lock("pg_advisory_xact_lock")
    wanted -= set(SourceFile.objects.filter(digest__in=wanted).values_list("digest", flat=True))
    wanted -= set(DocumentVersion.objects.filter(file_digest__in=wanted).values_list("file_digest", flat=True))
    for _, needed in still_needed.send(None, digests=wanted):
        wanted -= needed if isinstance(needed, set) else set()
    for digest in wanted:
        place_of(digest).unlink(missing_ok=True)
        shutil.rmtree(pages_of(digest), ignore_errors=True)


def kept(digest: str, name: str) -> bytes:
    """The bytes with this digest.

    Raises
    ------
    DocumentError
        If they are gone.
    """
    try:
        return place_of(digest).read_bytes()
    except OSError as error:
        raise DocumentError(f"{name}: the file as it was imported is gone; import it again") from error
