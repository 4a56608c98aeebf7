"""Files that will be asked all over are read through beforehand, from their beginning to their end.

A search follows references to pages here and there. Where the disk has not read a file lately each of them waits for
it, and brings its neighbours along unasked: to read it through in order is many times faster.
"""

import os
import time
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from io import FileIO
from pathlib import Path

from doppio.core.store.small_files import FolderFiles

AT_ONCE = 4 << 20
# The part of the memory that could be had which a file may take, and all that are read at a start together: what is
# larger is mostly left alone by a search, and might push out what is needed more. So large a file is always read, and
# a larger one by and by.
SHARE, LEAST = 4, 512 << 20
MEMORY = Path("/proc/meminfo")
# Places of a file that are tried: where all of them are in memory it was read not long ago.
TRIED = 16


class ReadingAhead:
    """Reads files one after another, beside all else, where `begin` was called; elsewhere it does nothing."""

    def __init__(self) -> None:
        self._reader: ThreadPoolExecutor | None = None
        self._record: Path | None = None
        self._asked: dict[str, None] = {}

    def begin(self, record: Path | None = None) -> Future[None]:
        """From now on.

        Parameters
        ----------
        record : Path or None
            A file that says what was asked for last, by an earlier process too: that is read first, since it is
            likely to be asked for again. None where nobody goes on after this one.
        """
        self._reader, self._record = ThreadPoolExecutor(1, "read ahead"), record
        return self._reader.submit(self._recorded)

    def of(self, files: Sequence[Path]) -> Future[None] | None:
        """Have files read, the smallest first; who wants them need not wait for it. One that cannot be read is passed
        over: whoever wants it will be told."""
        return self._reader.submit(self._read, files) if self._reader else None

    def _recorded(self) -> None:
        if self._record is not None:
            with suppress(OSError, UnicodeDecodeError):
                self._asked = dict.fromkeys(self._record.read_text().splitlines())
            _read_all([Path(name) for name in self._last()])

    def _read(self, files: Sequence[Path]) -> None:
        before = list(self._asked)
        for name in map(str, files):
            self._asked.pop(name, None)
            self._asked[name] = None
        if self._record is not None and list(self._asked) != before:
            self._asked = dict.fromkeys(self._last())
            # Without it the next process reads what it needs when it needs it.
            with suppress(OSError):
                FolderFiles(self._record.parent).write(self._record.name, "\n".join(self._asked))
        _read_all(files)

    def _last(self) -> list[str]:
        """What was asked for last and is there, as much as is worth reading at a start."""
        found, room = [], _room()
        for name in reversed(self._asked):
            size = _size(Path(name))
            if 0 < size <= room:
                room -= size
                found.append(name)
        return found[::-1]


reading_ahead = ReadingAhead()


def _read_all(files: Sequence[Path]) -> None:
    room, most = memoryview(bytearray(AT_ONCE)), _room()
    for size, file in sorted((_size(file), file) for file in files):
        if size <= most:
            with suppress(OSError), file.open("rb", buffering=0) as data:
                if not _in_memory(data.fileno(), size):
                    _read_through(data, room, size > LEAST)


def _read_through(data: FileIO, room: memoryview, large: bool) -> None:
    while True:
        begun = time.monotonic()
        if not data.readinto(room):
            return
        if large:
            # A question that waits for the disk meanwhile finds it free most of the time.
            time.sleep(2 * (time.monotonic() - begun))


def _room() -> int:
    """Bytes that are worth reading."""
    with suppress(OSError, ValueError, StopIteration):
        told = next(line for line in MEMORY.read_text().splitlines() if line.startswith("MemAvailable:"))
        return max(LEAST, (int(told.split()[1]) << 10) // SHARE)
    return LEAST


def _size(file: Path) -> int:
    try:
        return file.stat().st_size
    except OSError:
        return 0


def _in_memory(handle: int, size: int) -> bool:
    for number in range(TRIED):
        try:
            os.preadv(handle, [bytearray(1)], number * size // TRIED, os.RWF_NOWAIT)
        except BlockingIOError:
            return False
        except OSError:
            # A file system that cannot say so; to read it is never wrong.
            return False
    return True
