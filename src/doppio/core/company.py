"""How many questions are being answered at this moment, in all processes that were forked from one.

Who is alone spreads over all cores and has the answer sooner; where others ask too, every core has a question of its
own to work on, and to spread would only make them wait for each other.
"""

import mmap
import threading
from collections.abc import Iterator
from contextlib import contextmanager

PLACES = 16


class Company:
    """A place for each process, in memory that those forked from this one share; each writes to its own alone."""

    def __init__(self) -> None:
        self._counts, self._loads = (memoryview(mmap.mmap(-1, 4 * PLACES)).cast("I") for _ in range(2))
        self._taken = memoryview(mmap.mmap(-1, PLACES))
        self._ended = threading.Condition()
        self._place = 0

    def take(self, place: int) -> None:
        """Count at this place from now on, from 0: whoever had it before is gone.

        Raises
        ------
        ValueError
            If there is no such place.
        """
        if not 0 <= place < PLACES:
            raise ValueError(f"place {place} is not between 0 and {PLACES - 1}")
        with self._ended:
            self._place = place
            self._counts[place], self._loads[place], self._taken[place] = 0, 0, 1

    def leave(self, place: int) -> None:
        """Count no longer with whoever had a place: it is gone."""
        self._counts[place], self._loads[place], self._taken[place] = 0, 0, 0

    def comes(self) -> None:
        """One more waits here to be answered."""
        with self._ended:
            self._loads[self._place] += 1

    def goes(self) -> None:
        """One less."""
        with self._ended:
            self._loads[self._place] -= 1
            self._ended.notify_all()

    @contextmanager
    def one_more(self) -> Iterator[None]:
        """Count as a question that is being answered."""
        self.comes()
        with self._ended:
            self._counts[self._place] += 1
        try:
            yield
        finally:
            with self._ended:
                self._counts[self._place] -= 1
            self.goes()

    @property
    def alone(self) -> bool:
        """Whether one question at most is being answered."""
        return sum(self._counts) <= 1

    @property
    def busier(self) -> bool:
        """Whether this process has more to answer than another one that took a place."""
        own = self._loads[self._place]
        others = range(PLACES) if own else ()
        return any(self._taken[place] and self._loads[place] < own for place in others)

    def wait_while_busier(self, seconds: float) -> None:
        """Wait until an answer of this process has ended and all others have as much to do, or for so long."""
        with self._ended:
            self._ended.wait_for(lambda: not self.busier, seconds)


company = Company()
