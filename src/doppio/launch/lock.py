"""One process at a time: a file that is locked while somebody works, and tells who that is."""

import fcntl
import json
import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

AGAIN = 0.2


class Taken(Exception):
    """Another process has the lock.

    holder : what it said of itself; empty where it has not said anything yet
    """

    def __init__(self, holder: dict[str, Any]) -> None:
        super().__init__(holder)
        self.holder = holder


class Lock:
    """A lock that ends with the last process that has the file open, however that ends."""

    def __init__(self, path: Path, handle: int | None = None) -> None:
        self.path = path
        self._handle = handle

    def take(self, **about: Any) -> None:
        """Take the lock and say who has it.

        Raises
        ------
        Taken
            If another process has it.
        """
        self.path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(self.path, os.O_RDWR | os.O_CREAT, 0o600)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(handle)
            raise Taken(self.holder()) from None
        self._handle = handle
        self.say(**about)

    def wait(self, told: Callable[[dict[str, Any]], None], **about: Any) -> None:
        """Take the lock as soon as it is free; `told` hears once who has it."""
        heard = False
        while True:
            try:
                self.take(**about)
                return
            except Taken as taken:
                if not heard:
                    told(taken.holder)
                heard = True
                time.sleep(AGAIN)

    def say(self, **about: Any) -> None:
        """Write down who has it and what is going on."""
        assert self._handle is not None
        text = json.dumps({"process": os.getpid(), **about}).encode()
        os.pwrite(self._handle, text, 0)
        os.ftruncate(self._handle, len(text))

    def holder(self) -> dict[str, Any]:
        """What the process that has it said last."""
        try:
            return dict(json.loads(self.path.read_text()))
        except (OSError, ValueError):
            return {}

    def hand_on(self) -> int:
        """Keep the lock over the start of another program in this process; returns what opens it there."""
        assert self._handle is not None
        os.set_inheritable(self._handle, True)
        return self._handle

    def release(self) -> None:
        if self._handle is not None:
            os.close(self._handle)
            self._handle = None
