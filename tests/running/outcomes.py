"""What became of a job, and what is told of all of them."""

import time
import traceback
import unittest
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from tests.running.work import own_work

SHORT = 0.5


@dataclass
class Outcome:
    """What became of one job.

    failures : for each test that failed its name and what it said
    skipped : for each test that was left out its name and why
    worked : seconds of processor time of its process and of all that it started, where that is known
    tests : for each test its name, how long it took, and what of it was work of this process and of those that ended
    """

    name: str
    seconds: float = 0.0
    passed: int = 0
    failures: list[tuple[str, str]] = field(default_factory=list)
    skipped: list[tuple[str, str]] = field(default_factory=list)
    is_check: bool = False
    tests: list[tuple[str, float, float]] = field(default_factory=list)
    worked: float = 0.0

    @property
    def line(self) -> str:
        told = [f"{len(self.failures)} FAILED"] if self.failures else []
        told += [f"{self.passed} passed"] if not self.is_check else [] if self.failures else ["passed"]
        told += [f"{len(self.skipped)} skipped"] if self.skipped else []
        return f"  {self.name} ... {', '.join(told)} ({self.seconds:.1f} s)"


class Collected(unittest.TestResult):
    """A result that can be sent from one process to another."""

    def __init__(self) -> None:
        super().__init__()
        self._begun = (0.0, 0.0)
        self._took: list[tuple[str, float, float]] = []

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self._begun = time.monotonic(), own_work()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        begun, worked = self._begun
        self._took.append((test.id(), time.monotonic() - begun, own_work() - worked))

    def outcome(self, name: str, seconds: float) -> Outcome:
        """Each test counts once: one whose parts failed several times is one test that failed."""
        failed: dict[str, list[str]] = {}
        for test, said in (*self.failures, *self.errors):
            failed.setdefault(_name(test), []).append(said)
        for test in self.unexpectedSuccesses:
            failed.setdefault(_name(test), []).append("passed, though it was expected to fail")
        skipped = [(_name(test), reason) for test, reason in self.skipped]
        # What fails before a class's tests or after them is counted beside them.
        own = [test for test in failed if not test.startswith(("setUp", "tearDown"))]
        passed = max(self.testsRun - len(own) - len(skipped), 0)
        failures = [(test, "\n".join(said)) for test, said in failed.items()]
        return Outcome(name, seconds, passed, failures, skipped, tests=self._took)


def broken(name: str, seconds: float, why: BaseException | str, *, is_check: bool = False) -> Outcome:
    """The outcome of a job that could not be run."""
    said = why if isinstance(why, str) else "".join(traceback.format_exception(why))
    return Outcome(name, seconds, failures=[(name, said)], is_check=is_check)


def _name(test: unittest.TestCase) -> str:
    # A part of a test, told apart by its parameters, belongs to its test; a class that broke down has only a name.
    return getattr(test, "test_case", test).id()


def slowest_first(outcomes: Iterable[Outcome]) -> list[str]:
    """A line for each class with its seconds and what it worked; those of next to nothing share one."""
    rows = sorted(outcomes, key=lambda outcome: -outcome.seconds)
    long = [row for row in rows if row.seconds >= SHORT]
    lines = [_timed(row.seconds, row.worked, row.name) for row in long]
    short = rows[len(long) :]
    if short:
        took, worked = sum(row.seconds for row in short), sum(row.worked for row in short)
        lines.append(_timed(took, worked, f"{len(short)} others, each under {SHORT} s"))
    return lines


def _timed(seconds: float, worked: float, name: str) -> str:
    return f"{seconds:8.1f} s {worked:8.1f} s  {name}"


def summary(outcomes: Sequence[Outcome]) -> tuple[str, bool]:
    """The last line of a run, and whether all is well: something ran, and nothing failed."""
    tests = [outcome for outcome in outcomes if not outcome.is_check]
    passed, failed, skipped = (
        sum(outcome.passed for outcome in tests),
        sum(len(outcome.failures) for outcome in tests),
        sum(len(outcome.skipped) for outcome in tests),
    )
    well = not any(outcome.failures for outcome in outcomes) and bool(outcomes) and (passed > 0 or not tests)
    return f"{passed} passed, {failed} failed, {skipped} skipped", well
