"""A scheduler and workers on loopback, each a process of its own, as they would be on several machines."""

import json
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from unittest import mock

from doppio.core.branches.dense.making import encode_there
from doppio.machines import here
from tests.core.corpus import ROOT

SCHEDULER = "distributed.cli.dask_scheduler"
# A worker imports for ten seconds of a core, which others may want as well.
SECONDS = 180


class Processes:
    """See the module. Leaving the block ends all of them."""

    def __init__(self, **environment):
        self.environment = {**os.environ, "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}", **environment}
        self.workers = []
        self.scheduler = None

    def __enter__(self):
        self._folder = tempfile.TemporaryDirectory()
        self.place = Path(self._folder.name)
        self.start_scheduler()
        return self

    def __exit__(self, *_):
        for process in [*self.workers, self.scheduler]:
            self.end(process)
        self._folder.cleanup()

    def start_scheduler(self, port=0):
        told = self.place / "scheduler.json"
        told.unlink(missing_ok=True)
        self.scheduler = self._start(
            "-m", SCHEDULER, "--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show",
            "--scheduler-file", str(told),
        )  # fmt: skip
        self.until(lambda: address_in(told), "the scheduler")
        self.address = address_in(told)

    def start_worker(self, **environment):
        """A worker of one thread; returns its process, which watches over another one that works."""
        process = self._start("-m", "doppio", "worker", self.address, "--processes", "1", **environment)
        self.workers.append(process)
        return process

    def _start(self, *given, **environment):
        log = (self.place / "log").open("ab")
        return subprocess.Popen(
            [sys.executable, *given], env={**self.environment, **environment}, stdout=log, stderr=log, cwd=ROOT,
            start_new_session=True,
        )  # fmt: skip

    def end(self, process, sign=signal.SIGKILL):
        """End a process and those that it started."""
        if process is not None and process.poll() is None:
            os.killpg(process.pid, sign)
            process.wait()

    def until(self, done, what):
        end = time.monotonic() + SECONDS
        while not done():
            if time.monotonic() > end:
                log = (self.place / "log").read_text()
                wrong = "\n".join(dict.fromkeys(re.findall(r"^[\w.]*(?:Error|Exception|Lock).*", log, re.M)))
                raise AssertionError(f"{what} did not come; what went wrong there:\n{wrong}\n{log[-2000:]}")
            time.sleep(0.05)


def address_in(told):
    """The address in a scheduler's file; none while it is not there, or not all of it is written."""
    try:
        return json.loads(told.read_text())["address"]
    except (FileNotFoundError, json.JSONDecodeError):
        return None


def encoded_by_another(place):
    """A task for an encoder that no worker has."""
    return encode_there(place, "compact-english", "another digest", "", ["rope"], False, True)


def unsettled(place):
    """A task of a worker that somebody else has started."""
    with mock.patch.object(here, "_here", []):
        here.here()
