"""The database, the job worker and the web server, kept up: what dies is started again, in the right order.

The supervisor imports what its children need, keeps clear of threads and of the database, and forks: a child is there
within a moment. All of them die with it.
"""

import os
import shutil
import signal
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path

from doppio.command.children import ASKED, Child, Work, fork, stop
from doppio.command.restarts import GaveUp, Restarts
from doppio.command.show import err
from doppio.core.errors import DoppioError
from doppio.launch.cluster import Cluster

Clock = Callable[[], float]
Say = Callable[[str], None]
LOOK_AGAIN = 0.1
# Seconds that a process may take to end when it is asked; what it was at is taken up again by the next one.
PATIENCE = {"database": 60.0, "job worker": 4.0, "web server": 4.0}
LOG_BYTES, LOG_LOOK = 5 << 20, 30.0


def _on_terminal(text: str) -> None:
    err.print(text, soft_wrap=True)


def _nothing() -> None:
    """Nothing is to be done."""


class Kept:
    """A process that is to run all the time; `gone` is called whenever it has ended."""

    def __init__(
        self,
        name: str,
        start: Callable[[], Child],
        clock: Clock,
        asked: int = signal.SIGTERM,
        gone: Callable[[], None] = _nothing,
    ) -> None:
        self.name = name
        self.asked = asked
        self._gone = gone
        self._start = start
        self._clock = clock
        self._restarts = Restarts(clock)
        self._due = clock()
        self.child: Child | None = None

    @property
    def runs(self) -> bool:
        return self.child is not None

    def start_if_due(self) -> bool:
        """Start it if it does not run and has waited long enough; whether it was started now."""
        if self.child is not None or self._clock() < self._due:
            return False
        self.child = self._start()
        self._restarts.started()
        return True

    def ended(self) -> int | None:
        """Its status if it has ended since it was looked at last.

        Raises
        ------
        GaveUp
            If it has ended too often in a row.
        """
        status = self.child.poll() if self.child is not None else None
        if status is not None:
            self.child = None
            self._gone()
            self._due = self._clock() + self._restarts.ended()
        return status

    def stop(self, asked: int | None = None) -> None:
        if self.child is not None:
            stop(self.child, asked or self.asked, PATIENCE.get(self.name, PATIENCE["web server"]))
            self.child = None


class Supervisor:
    """Keeps a cluster and what stands on it running.

    say : tells people what happened
    """

    def __init__(self, cluster: Cluster, var: Path, say: Say = _on_terminal, clock: Clock = time.monotonic) -> None:
        self._cluster, self._var, self._say, self._clock = cluster, var, say, clock
        self._database = Kept("database", self._start_database, clock, signal.SIGINT)
        self._services: list[Kept] = []
        self._beside: list[Child] = []
        self._answers = False
        self._outages = 0
        self._log_look = clock()

    def keep(self, name: str, work: Work, *, at_once: bool = False, gone: Callable[[], None] = _nothing) -> None:
        """Keep a child running that does `work`, while the database is there; `at_once` starts it before that too,
        and `gone` is called whenever it has ended."""
        kept = Kept(name, lambda: fork(work, self.log_of(name), name), self._clock, gone=gone)
        self._services.append(kept)
        if at_once:
            kept.start_if_due()

    def beside(self, child: Child) -> None:
        """A child whose end, good or bad, ends nothing here; it is a group of processes of its own."""
        self._beside.append(child)

    def log_of(self, name: str) -> Path:
        return self._var / f"{name.replace(' ', '-')}.log"

    def look(self) -> None:
        """Start what has to be started.

        Raises
        ------
        DoppioError
            If something ends again and again.
        """
        try:
            self._look_at_database()
            for service in self._services:
                self._said(service, service.ended())
                if self._answers:
                    service.start_if_due()
        except GaveUp as error:
            raise DoppioError(self._given_up()) from error
        self._beside = [child for child in self._beside if child.poll() is None]
        if self._clock() - self._log_look > LOG_LOOK:
            self._log_look = self._clock()
            for kept in (self._database, *self._services):
                _shorten(self.log_of(kept.name))

    def _look_at_database(self) -> None:
        status = self._database.ended()
        if status is not None:
            self._answers = False
            self._outages += 1
            self._said(self._database, status)
        self._database.start_if_due()
        if not self._answers and self._database.runs and self._cluster.answers():
            self._answers = True
            for service in self._services:
                if service.name == "job worker":
                    # Its connections are to the server that is gone; what it was at is taken up by the next one.
                    service.stop(signal.SIGKILL)

    def _start_database(self) -> Child:
        if not self._outages:
            # Later on the others know it by its port.
            self._cluster.settle()
        return self._cluster.as_child()

    def _said(self, kept: Kept, status: int | None) -> None:
        if status is not None:
            how = f"signal {-status}" if status < 0 else f"status {status}"
            self._say(f"  the {kept.name} ended with {how} and is started again; see {self.log_of(kept.name)}")

    def _given_up(self) -> str:
        dead = next(kept for kept in (self._database, *self._services) if not kept.runs)
        log = self.log_of(dead.name)
        said = log.read_text(errors="replace").strip().splitlines()[-5:] if log.exists() else []
        return "\n".join([f"the {dead.name} ends again and again soon after its start; see {log}", *said])

    def until(self, ready: Callable[[], bool], seconds: float, what: str) -> None:
        """Keep everything up until something is there.

        Raises
        ------
        DoppioError
            If it is not there in time.
        """
        end = self._clock() + seconds
        while not ready():
            if self._clock() > end:
                raise DoppioError(f"{what} is not ready after {seconds:.0f} seconds")
            self.look()
            time.sleep(LOOK_AGAIN)

    def do(self, work: Work) -> None:
        """Have a child do something on this terminal, and keep everything up meanwhile; its bad end is this one's.

        What failed because the database went away is done again.
        """
        while True:
            self.database()
            outages, child = self._outages, fork(work)
            try:
                while (status := child.poll()) is None:
                    self.look()
                    time.sleep(LOOK_AGAIN / 2)
            finally:
                stop(child, signal.SIGKILL, 5.0)
            if not status:
                return
            if self._outages == outages:
                raise SystemExit(status)

    def database(self) -> None:
        """Start the database and wait for it."""
        self.until(lambda: self._answers, 90, "the database")

    def run(self) -> None:
        """Keep everything up for ever."""
        while True:
            self.look()
            time.sleep(LOOK_AGAIN)

    def stop(self) -> None:
        """Stop everything, what stands on the database first; asked again meanwhile, it goes on stopping."""
        for number in ASKED:
            signal.signal(number, lambda *_: self._say("  stopping already; a moment"))
        for child in self._beside:
            if child.poll() is None:
                os.killpg(child.pid, signal.SIGTERM)
        for service in reversed(self._services):
            if service.child is not None:
                service.child.send_signal(service.asked)
        for kept in (*reversed(self._services), self._database):
            kept.stop()


def answers(address: str) -> bool:
    """Whether the web server says that it is well."""
    try:
        with urllib.request.urlopen(f"{address}/health", timeout=2) as response:
            return bool(response.status == 200)
    except (urllib.error.URLError, OSError):
        return False


def _shorten(log: Path) -> None:
    """Keep a log that has grown long as the one before it, and go on with an empty one."""
    if log.exists() and log.stat().st_size > LOG_BYTES:
        kept = log.with_suffix(".log.1")
        shutil.copyfile(log, kept)
        # Who writes has it open to append, and goes on at the start.
        with log.open("r+b") as file:
            file.truncate(0)
