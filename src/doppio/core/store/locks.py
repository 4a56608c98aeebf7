"""Who builds what: locks by name against other processes and threads.

Those of a folder hold on one machine. Where several build into one store, others are given that all of them see.
"""

import fcntl
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Protocol


class Locks(Protocol):
    """Locks that end with the process that holds them, however it ends."""

    def hold(self, name: str) -> AbstractContextManager[None]:
        """Hold a lock alone, and wait for it."""

    def share(self, name: str, *, alone: bool = False) -> AbstractContextManager[bool]:
        """Hold a lock together with others. With `alone` nobody waits: the block learns
        whether it is the only one."""


class FolderLocks:
    """Locks on files of a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @contextmanager
    def hold(self, name: str) -> Iterator[None]:
        self.folder.mkdir(parents=True, exist_ok=True)
        with (self.folder / name).open("w") as file:
            fcntl.flock(file, fcntl.LOCK_EX)
            yield

    @contextmanager
    def share(self, name: str, *, alone: bool = False) -> Iterator[bool]:
        self.folder.mkdir(parents=True, exist_ok=True)
        with (self.folder / name).open("w") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB if alone else fcntl.LOCK_SH)
            except BlockingIOError:
                yield False
                return
            yield True
