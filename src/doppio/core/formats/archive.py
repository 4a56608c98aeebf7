"""ZIP archives: what is inside, within limits on number, size and how far it swells."""

import io
import lzma
import stat
import struct
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import PurePosixPath

from doppio.core.errors import DocumentError

# What unpacking raises for bytes that are no archive, or no longer are one.
_BROKEN = (
    zipfile.BadZipFile, zlib.error, lzma.LZMAError, struct.error, OSError, EOFError, ValueError, NotImplementedError,
    RuntimeError, MemoryError, OverflowError,
)  # fmt: skip
MEMBERS = 20_000
SWELLS = 200
ARCHIVES = (".zip", ".tar", ".gz", ".tgz", ".bz2", ".xz", ".7z", ".rar", ".zst", ".lz4", ".cab", ".iso")


@dataclass(frozen=True)
class Limits:
    """Bounds of one file.

    file_bytes, archive_bytes : of the file, and of all that an archive holds
    seconds : to read it; `soon`, and `a_mebibyte` more for each of a file's, since small ones are read at once
    slow : endings of formats that take all of that time for good reasons, whatever their size
    memory : bytes to read it
    """

    file_bytes: int = 200 << 20
    archive_bytes: int = 1 << 30
    seconds: float = 120.0
    soon: float = 15.0
    a_mebibyte: float = 10.0
    slow: tuple[str, ...] = (".pdf", ".docx")
    memory: int = 2 << 30

    def seconds_for(self, name: str, size: int) -> float:
        """How long reading a file of `size` bytes may take."""
        if name.lower().endswith(self.slow):
            return self.seconds
        return min(self.seconds, self.soon + self.a_mebibyte * size / (1 << 20))


LIMITS = Limits()


def members(data: bytes, name: str, limits: Limits = LIMITS) -> Iterator[tuple[str, bytes | DocumentError]]:
    """Files of an archive with their bytes, or with the reason why one is refused.

    Raises
    ------
    DocumentError
        If the archive is broken, holds too many files, or swells too far; nothing of it is read then.
    """
    archive = open_archive(data, name, limits)
    for entry in archive.infolist():
        if entry.is_dir():
            continue
        path = _safe_path(entry.filename)
        if path is None or stat.S_ISLNK(entry.external_attr >> 16):
            yield f"{name}/{entry.filename}", DocumentError(f"{name}: {entry.filename!r} points out of the archive")
            continue
        if any(part.startswith(".") or part == "__MACOSX" for part in PurePosixPath(path).parts):
            continue
        whole = f"{PurePosixPath(name).with_suffix('').as_posix()}/{path}"
        yield whole, _member(archive, entry, whole, limits)


def _member(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, name: str, limits: Limits) -> bytes | DocumentError:
    if name.lower().endswith(ARCHIVES):
        return DocumentError(f"{name}: an archive inside of an archive is not opened; unpack it first")
    if entry.flag_bits & 1:
        return DocumentError(f"{name}: encrypted; pack it again without a password")
    if entry.file_size > limits.file_bytes:
        return DocumentError(f"{name}: {too_large(entry.file_size, limits.file_bytes)}")
    try:
        with archive.open(entry) as file:
            content = file.read(entry.file_size + 1)
    except _BROKEN as error:
        return DocumentError(f"{name}: cannot be unpacked ({error or type(error).__name__})")
    if len(content) > entry.file_size:
        return DocumentError(f"{name}: holds more than the archive says")
    return content


def open_archive(data: bytes, name: str, limits: Limits = LIMITS) -> zipfile.ZipFile:
    """Open an archive whose table of contents is within the limits.

    Raises
    ------
    DocumentError
        If it is broken or beyond them.
    """
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except _BROKEN as error:
        raise DocumentError(f"{name}: a broken archive ({error}); pack it again") from error
    entries = archive.infolist()
    if len(entries) > MEMBERS:
        raise DocumentError(f"{name}: holds {len(entries):,} files; at most {MEMBERS:,} are read")
    total = sum(entry.file_size for entry in entries)
    if total > limits.archive_bytes:
        raise DocumentError(f"{name}: unpacked it has {too_large(total, limits.archive_bytes)}")
    if total > SWELLS * max(len(data), 1) and total > 1 << 20:
        raise DocumentError(
            f"{name}: swells to {total / max(len(data), 1):.0f} times its size; refused above {SWELLS}"
        )
    return archive


def too_large(size: int, limit: int) -> str:
    return f"{size / (1 << 20):,.1f} MiB, more than the {limit / (1 << 20):,.0f} MiB that are read"


def _safe_path(name: str) -> str | None:
    path = PurePosixPath(name.replace("\\", "/"))
    return None if path.is_absolute() or ".." in path.parts or not path.parts else path.as_posix()
