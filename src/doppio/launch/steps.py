"""The steps of a start, side by side: each begins when what it needs is done, and says how long it took.

On a terminal one line at the bottom tells what is going on; elsewhere a step that takes long says so now and then.
"""

import sys
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from functools import partial
from typing import TextIO

Note = Callable[[str], None]
# A machine has few cores, but most of these steps wait for something else most of the time.
SIDE_BY_SIDE = 6
REDRAW, SAY_AGAIN = 0.2, 10.0


@dataclass(frozen=True)
class Step:
    """One step.

    work : gets a function that takes a short note of how far it is; returns what it did, in a word or two
    after : titles of the steps that have to be done before
    """

    title: str
    work: Callable[[Note], str]
    after: tuple[str, ...] = ()


class Page:
    """Where steps tell what they do."""

    def __init__(self, out: TextIO | None = None, *, clock: Callable[[], float] = time.monotonic) -> None:
        self.out = sys.stderr if out is None else out
        self._live = self.out.isatty()
        self.clock = clock
        self._lock = threading.Lock()
        self._notes: dict[str, str] = {}
        self._begun: dict[str, float] = {}
        self._said: dict[str, float] = {}

    def begin(self, title: str) -> None:
        with self._lock:
            self._begun[title] = self._said[title] = self.clock()
            self._notes[title] = ""

    def note(self, title: str, text: str) -> None:
        with self._lock:
            self._notes[title] = text

    def end(self, title: str, result: str) -> None:
        with self._lock:
            took = self.clock() - self._begun.pop(title)
            self._notes.pop(title)
            self._line(f"  {title} ... {result} ({took:.1f} s)")

    def failed(self, title: str) -> None:
        with self._lock:
            del self._begun[title]
            self._line(f"  {title} ... failed")

    def show(self) -> None:
        """Tell of the steps that run: on a terminal all the time, elsewhere now and then."""
        with self._lock:
            now = self.clock()
            if self._live:
                running = "   ".join(self._running(title, now) for title in self._begun)
                self.out.write(f"\r\x1b[2K\x1b[?7l  {running}\x1b[?7h")
            else:
                for title in self._begun:
                    if now - self._said[title] >= SAY_AGAIN:
                        self._said[title] = now
                        self._line(f"  {self._running(title, now)}")
            self.out.flush()

    def clear(self) -> None:
        if self._live:
            self.out.write("\r\x1b[2K")
            self.out.flush()

    def _running(self, title: str, now: float) -> str:
        note = self._notes[title]
        return f"{title}: {note + ', ' if note else ''}{now - self._begun[title]:.0f} s"

    def _line(self, text: str) -> None:
        self.out.write(f"\r\x1b[2K{text}\n" if self._live else f"{text}\n")
        self.out.flush()


def step(title: str, work: Callable[[], str], page: Page | None = None) -> None:
    """Do one step here and now, and say what it did and how long it took."""
    page = page or Page()
    page.begin(title)
    try:
        result = work()
    except BaseException:
        page.failed(title)
        raise
    page.end(title, result)


def do(steps: Sequence[Step], page: Page | None = None) -> None:
    """Do all steps, each as soon as those that it needs are done.

    Raises
    ------
    Exception
        The first that a step raised. No step begins after it; those that run are waited for, so that nothing is
        left half-installed.
    """
    page = page or Page()
    waiting = {step.title: step for step in steps}
    done: set[str] = set()
    running: dict[Future[str], Step] = {}
    first: BaseException | None = None
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        try:
            while running or (waiting and first is None):
                ready = [step for step in waiting.values() if done.issuperset(step.after)]
                assert running or ready, f"steps wait for each other: {', '.join(waiting)}"
                for step in ready if first is None else ():
                    del waiting[step.title]
                    page.begin(step.title)
                    running[pool.submit(step.work, partial(page.note, step.title))] = step
                for ended in wait(running, REDRAW, FIRST_COMPLETED).done:
                    step = running.pop(ended)
                    error = ended.exception()
                    if error is None:
                        page.end(step.title, ended.result())
                        done.add(step.title)
                    else:
                        page.failed(step.title)
                        first = first or error
                page.show()
        finally:
            page.clear()
    if first is not None:
        raise first
