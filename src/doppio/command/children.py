"""Children of the supervisor: forked from it, so that they have everything imported; they die with it."""

import ctypes
import os
import signal
import sys
import time
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from doppio.core.errors import DoppioError
from doppio.launch.errors import LaunchError

_DIE_WITH_PARENT, _NAME = 1, 15
ASKED = (signal.SIGINT, signal.SIGTERM)
Work = Callable[[], int | None]


class Child(Protocol):
    """A process that was started here."""

    pid: int

    def poll(self) -> int | None:
        """Its status once it has ended, negative for the signal that ended it."""

    def send_signal(self, number: int) -> None: ...


class Forked:
    """A forked process."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._status: int | None = None

    def poll(self) -> int | None:
        if self._status is None:
            ended, status = os.waitpid(self.pid, os.WNOHANG)
            if ended:
                self._status = os.waitstatus_to_exitcode(status)
        return self._status

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)


class Door:
    """What children wait for that were started early; it is opened once, and whoever comes later does not wait."""

    def __init__(self) -> None:
        self._outside, self._inside = os.pipe()
        self._is_open = False

    def open(self) -> None:
        """Let all children go on."""
        self._is_open = True
        os.close(self._inside)

    def wait(self) -> None:
        """Wait, as a child, until it is open."""
        if not self._is_open:
            # A copy that is kept here would keep it shut.
            os.close(self._inside)
            os.read(self._outside, 1)


def fork(work: Work, log: Path | None = None, name: str = "doppio") -> Forked:
    """Do `work` in a child that is killed when this process ends; what it prints goes to `log` where there is one.

    `name` is what lists of processes call it. Its status is what `work` returns, 2 for an error that is told in a
    sentence, 1 for one that nobody thought of. This process must not have threads of its own, which a child would
    not have.
    """
    sys.stdout.flush()
    sys.stderr.flush()
    _part_from_the_database()
    parent = os.getpid()
    # A child that is asked to stop before it has begun must not answer as this process does.
    signal.pthread_sigmask(signal.SIG_BLOCK, ASKED)
    pid = os.fork()
    if pid:
        signal.pthread_sigmask(signal.SIG_UNBLOCK, ASKED)
        return Forked(pid)
    status = 1
    try:
        _begin(parent, log, name)
        status = work() or 0
    except SystemExit as error:
        status = error.code if isinstance(error.code, int) else 1
    except KeyboardInterrupt:
        status = 130
    except (DoppioError, LaunchError) as error:
        print(f"doppio: {error}", file=sys.stderr)
        status = 2
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)


def _part_from_the_database() -> None:
    """Close this process's connections: a child would have the same, and each would hear what the other asked."""
    if "django.db" in sys.modules:
        from django.db import connections

        connections.close_all()


def _begin(parent: int, log: Path | None, name: str) -> None:
    # A session of its own: Ctrl-C reaches only the supervisor, which stops its children in order.
    os.setsid()
    library = ctypes.CDLL(None)
    library.prctl(_DIE_WITH_PARENT, signal.SIGKILL)
    library.prctl(_NAME, name.encode()[:15])
    if os.getppid() != parent:
        os._exit(1)
    for number in ASKED:
        signal.signal(number, signal.SIG_DFL)
    signal.pthread_sigmask(signal.SIG_UNBLOCK, ASKED)
    nothing = os.open(os.devnull, os.O_RDONLY)
    os.dup2(nothing, 0)
    if log is not None:
        target = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        os.dup2(target, 1)
        os.dup2(target, 2)


def stop(child: Child, number: int, patience: float) -> None:
    """End a child: asked first, and killed if it takes longer than `patience` seconds."""
    child.send_signal(number)
    end = time.monotonic() + patience
    while child.poll() is None and time.monotonic() < end:
        time.sleep(0.02)
    if child.poll() is None:
        child.send_signal(signal.SIGKILL)
        while child.poll() is None:
            time.sleep(0.02)
