"""Files that will be asked all over are read through beforehand, from their beginning to their end.

A search follows references to pages here and there. Where the disk has not read a file lately each of them waits for
it, and brings its neighbours along unasked: to read it through in order is many times faster.
"""

import os
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

AT_ONCE = 1 << 20
# A larger one is mostly left alone by a search, and might push out what is needed more.
LARGEST = 512 << 20
# Places of a file that are tried: where all of them are in memory it was read not long ago.
TRIED = 16


class ReadingAhead:
    """Reads files one after another, beside all else, where `begin` was called; elsewhere it does nothing."""

    def __init__(self) -> None:
        self._reader: ThreadPoolExecutor | None = None

    def begin(self) -> None:
        """From now on."""
        self._reader = ThreadPoolExecutor(1, "read ahead")

    def of(self, files: Sequence[Path]) -> Future[None] | None:
        """Have files read, the smallest first; who wants them need not wait for it. One that cannot be read is passed
        over: whoever wants it will be told."""
        return self._reader.submit(_read_all, files) if self._reader else None


reading_ahead = ReadingAhead()


def _read_all(files: Sequence[Path]) -> None:
    room = memoryview(bytearray(AT_ONCE))
    for size, file in sorted((_size(file), file) for file in files):
        if size <= LARGEST:
            with suppress(OSError), file.open("rb", buffering=0) as data:
                if not _in_memory(data.fileno(), size):
                    while data.readinto(room):
                        pass


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
