"""Lanes: processes that take one job after another from a queue, the longest first.

Each has a database, a folder for artifacts and one thread of its own, so that nothing that a test does is seen in
another lane. Whatever a lane prints goes into a file and is told when a job of it has failed.
"""

import gc
import os
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from multiprocessing import get_context
from multiprocessing.connection import Connection, wait
from multiprocessing.process import BaseProcess
from pathlib import Path
from typing import TextIO

from tests.browser import driver
from tests.running import databases
from tests.running.jobs import Check, Tests, suite
from tests.running.outcomes import Collected, Outcome, broken
from tests.running.work import work_of_all

Job = Check | Tests
FORK = get_context("fork")
DONE = None


@dataclass
class Lane:
    """A process, what it is working on, and since when."""

    name: str
    process: BaseProcess
    line: Connection
    job: Job | None = None
    begun: float = 0.0


def run_all(
    jobs: Sequence[Job], count: int, template: str, scratch: Path, *, prefix: str = "lane"
) -> Iterator[Outcome]:
    """Outcomes of all jobs as they come; `jobs` are taken in their order.

    A lane that dies fails its job, and another one takes its place.
    """
    waiting = list(jobs)
    lanes = [_open(f"{prefix}_{number}", template, scratch) for number in range(min(count, len(waiting)))]
    try:
        for lane in lanes:
            _next(lane, waiting)
        while any(lane.job for lane in lanes):
            for line in wait([lane.line for lane in lanes if lane.job]):
                lane = next(lane for lane in lanes if lane.line is line)
                assert lane.job is not None
                try:
                    yield lane.line.recv()
                except EOFError:
                    lane.process.join()
                    took, status = time.monotonic() - lane.begun, lane.process.exitcode
                    yield broken(lane.job.name, took, f"the process of its lane ended with status {status}")
                    lanes[lanes.index(lane)] = lane = _open(lane.name, template, scratch)
                _next(lane, waiting)
    finally:
        for lane in lanes:
            if lane.job is not None:
                lane.process.terminate()
            lane.line.close()
            lane.process.join(20)


def _next(lane: Lane, waiting: list[Job]) -> None:
    lane.job = waiting.pop(0) if waiting else DONE
    lane.begun = time.monotonic()
    lane.line.send(lane.job)


def _open(name: str, template: str, scratch: Path) -> Lane:
    ours, theirs = FORK.Pipe()
    process = FORK.Process(target=_work, args=(name, ours, theirs, template, scratch), name=name)
    process.start()
    theirs.close()
    return Lane(name, process, ours)


def _work(name: str, ours: Connection, line: Connection, template: str, scratch: Path) -> None:
    ours.close()
    folder = scratch / name
    folder.mkdir(parents=True, exist_ok=True)
    _take_over(name, folder, template)
    said = (folder / "said.txt").open("a+")
    # Whatever is printed by anyone: tests, logs, the programs that they start.
    for stream in (1, 2):
        os.dup2(said.fileno(), stream)
    # A lane that is told to end leaves no browser behind.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(143))
    try:
        while (job := line.recv()) is not DONE:
            before = work_of_all()
            outcome = _run_check(job) if isinstance(job, Check) else _run_tests(job, said)
            outcome.worked = work_of_all() - before
            line.send(outcome)
    finally:
        driver.close()


def _take_over(name: str, folder: Path, template: str) -> None:
    """Make this process a lane: its own database, artifacts and files, and nobody else's output."""
    from django.conf import settings

    # What was there before the lane stays: nothing of it is looked through for what is no longer used.
    gc.freeze()
    databases.copy(template, name)
    databases.use(name)
    for variable, setting in (("DOPPIO_ARTIFACTS", "artifacts"), ("DOPPIO_FILES", "files")):
        os.environ[variable] = str(folder / setting)
        setattr(settings, variable, folder / setting)


def _forget_artifacts() -> None:
    """A class finds nothing that another one built: segments with documents that are gone would be taken over."""
    from django.conf import settings

    from doppio.recipes.opened import pipelines

    pipelines._open.clear()
    for setting in ("DOPPIO_ARTIFACTS", "DOPPIO_FILES"):
        shutil.rmtree(getattr(settings, setting), ignore_errors=True)


def _run_check(job: Check) -> Outcome:
    begun = time.monotonic()
    for command, where in job.commands:
        done = subprocess.run(command, cwd=where, text=True, capture_output=True, stdin=subprocess.DEVNULL)
        if done.returncode:
            return broken(job.name, time.monotonic() - begun, done.stdout + done.stderr, is_check=True)
    return Outcome(job.name, time.monotonic() - begun, is_check=True)


def _run_tests(job: Tests, said: TextIO) -> Outcome:
    begun = time.monotonic()
    result = Collected()
    said.truncate(0)
    _forget_artifacts()
    try:
        suite(job).run(result)
    except BaseException as error:
        return broken(job.name, time.monotonic() - begun, error)
    outcome = result.outcome(job.name, time.monotonic() - begun)
    sys.stdout.flush()
    said.seek(0)
    if outcome.failures and (printed := said.read().replace("\0", "")):
        name, why = outcome.failures[-1]
        outcome.failures[-1] = (name, f"{why}\n{job.name} printed:\n{printed}")
    return outcome
