"""When a process that ended is started again: soon, then later and later, and at last not any more."""

from collections.abc import Callable

PAUSES = (0.0, 0.2, 0.5, 1.0, 2.0, 4.0, 8.0, 15.0)
# A process that ran so long was well; what it died of says nothing of its next start.
WELL_AFTER = 10.0
AT_MOST = 12


class GaveUp(Exception):
    """A process ended soon after its start too many times in a row."""


class Restarts:
    """Counts the ends of one process; `clock` gives seconds that never run backwards."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._begun = clock()
        self._in_a_row = 0

    def started(self) -> None:
        self._begun = self._clock()

    def ended(self) -> float:
        """How long to wait before the next start, in seconds.

        Raises
        ------
        GaveUp
            If it has ended soon after its start too often in a row.
        """
        if self._clock() - self._begun >= WELL_AFTER:
            self._in_a_row = 0
        self._in_a_row += 1
        if self._in_a_row > AT_MOST:
            raise GaveUp
        return PAUSES[min(self._in_a_row, len(PAUSES)) - 1]
