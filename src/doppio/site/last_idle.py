"""Of idle threads the one that worked last is woken first.

Each thread has its own connection to the database, and each connection its plans and what it has read of the
tables. Questions that come one after another then meet what is warm; woken in turn, each would meet the coldest, or
a connection that was closed for being idle.
"""

import threading
from contextlib import suppress


class LastIdleFirst:
    """A condition over a lock, of which what waited for the shortest time is woken first; its methods want the lock
    held, as those of `threading.Condition` do."""

    def __init__(self, lock: threading.Lock) -> None:
        self._lock = lock
        self._waiting: list[threading.Lock] = []

    def wait(self, timeout: float | None = None) -> bool:
        """Wait to be woken, without the lock; whether that came in time."""
        own = threading.Lock()
        own.acquire()
        self._waiting.append(own)
        self._lock.release()
        woken = False
        try:
            woken = own.acquire(timeout=-1 if timeout is None else timeout)
        finally:
            self._lock.acquire()
            if not woken:
                with suppress(ValueError):
                    self._waiting.remove(own)
        return woken

    def notify(self, n: int = 1) -> None:
        """Wake so many."""
        for _ in range(min(n, len(self._waiting))):
            self._waiting.pop().release()

    def notify_all(self) -> None:
        """Wake all."""
        self.notify(len(self._waiting))
