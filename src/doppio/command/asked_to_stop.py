"""Being asked to stop, as an exception in the main thread, until it is heard.

Python runs a signal's handler between any two steps: also in one whose exceptions are ignored, such as what the
import system does when a lock is let go, or the end of an object. What was raised there is gone, so it is raised
again.
"""

import signal
from types import FrameType

AGAIN = 1.0


def listen() -> None:
    """Raise SystemExit or KeyboardInterrupt when a signal asks to stop; also where a shell had them ignored, as it
    does for what it starts in the background."""
    signal.signal(signal.SIGTERM, _stop)
    signal.signal(signal.SIGINT, _stop)
    signal.signal(signal.SIGALRM, _stop)


def heard() -> None:
    """It was heard: nothing is raised again."""
    signal.setitimer(signal.ITIMER_REAL, 0)


_by = signal.SIGTERM


def _stop(number: int, frame: FrameType | None) -> None:
    global _by
    if number != signal.SIGALRM:
        _by = signal.Signals(number)
    signal.setitimer(signal.ITIMER_REAL, AGAIN)
    if _by == signal.SIGINT:
        raise KeyboardInterrupt
    raise SystemExit(128 + _by)
