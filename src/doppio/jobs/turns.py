"""Work that only so many may do at once: others wait their turn, and those for whom it would be long come again.

A web thread that waits answers nobody else, so few may wait; all others are told when to come back.
"""

import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext

from rest_framework.exceptions import Throttled

from doppio.core.company import company
from doppio.core.cores import cores
from doppio.jobs.patience import LONGEST_WAIT, Usual, too_long


class Busy(Throttled):
    """Too many want the same at once; `wait` says in how many seconds to come back."""

    def __init__(self, seconds: float, why: str = "Too many ask for this at once") -> None:
        wait = max(1, round(seconds))
        super().__init__(detail=f"{why}; try again in {wait} s.")
        self.wait = wait


class Turns:
    """At most `at_once` at work and `waiting` behind them, first come, first served; `clock` never runs backwards.

    `here` says that the work is done on these cores, and not only waited for.
    """

    def __init__(
        self, at_once: int, waiting: int, clock: Callable[[], float] = time.monotonic, *, here: bool = True
    ) -> None:
        self.at_once, self.waiting, self.here = at_once, waiting, here
        self._clock = clock
        self._lock = threading.Lock()
        self._working = 0
        # Who waits, each on a lock of its own that is opened when it is due: nobody else is woken for it.
        self._line: deque[threading.Lock] = deque()
        self._usual = Usual()

    @contextmanager
    def turn(self, patience: float = LONGEST_WAIT) -> Iterator[None]:
        """A turn at the work, once it is due.

        Parameters
        ----------
        patience : float
            Seconds that are waited for it at most.

        Raises
        ------
        Busy
            If too many wait already, or the turn does not come in time.
        """
        self._wait(min(patience, LONGEST_WAIT))
        begun = self._clock()
        try:
            with company.one_more() if self.here else nullcontext():
                yield
        finally:
            took = self._clock() - begun
            with self._lock:
                self._usual.took(took)
                if self._line:
                    # The turn is handed on.
                    self._line.popleft().release()
                else:
                    self._working -= 1

    def _wait(self, patience: float) -> None:
        mine = threading.Lock()
        with self._lock:
            if self._working < self.at_once:
                self._working += 1
                return
            expected = self._usual.until_due(len(self._line), self.at_once)
            if too_long(expected, len(self._line), self.waiting, patience):
                raise Busy(expected)
            mine.acquire()
            self._line.append(mine)
        if mine.acquire(timeout=patience):
            return
        with self._lock:
            if mine in self._line:
                self._line.remove(mine)
                raise Busy(self._usual.until_due(len(self._line), self.at_once))
        # It was handed on in the last moment.


# A question uses all cores where it is reranked. What takes long to be shown has turns of its own, so that neither
# waits for the other, and all of them together leave threads for what is answered at once. A browser asks for six
# things at once: one person alone is never refused.
ASKING = Turns(cores(), 8)
HEAVY = Turns(cores(), 6)
