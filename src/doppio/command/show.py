"""What the command line prints: tables and progress bars on a terminal, plain lines elsewhere."""

import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import (
    BarColumn,
    MofNCompleteColumn,
    Progress,
    TaskID,
    TextColumn,
    TimeElapsedColumn,
    TimeRemainingColumn,
)

out = Console(highlight=False, width=None if sys.stdout.isatty() else 120)
err = Console(stderr=True, highlight=False)
SAY_AGAIN = 10.0


class TerminalProgress:
    """One bar a step, with rate and time left; a step that took part in nothing long stays short."""

    def __init__(self, bars: Progress) -> None:
        self._bars = bars
        self._current: TaskID | None = None

    def start(self, step: str, total: int, unit: str) -> None:
        self._current = self._bars.add_task(step, total=total, unit=unit, rate="")

    def advance(self, count: int) -> None:
        if self._current is not None:
            self._bars.advance(self._current, count)
            task = next(task for task in self._bars.tasks if task.id == self._current)
            if task.speed:
                self._bars.update(self._current, rate=f"{task.speed:,.0f} {task.fields['unit']}/s")


class PlainProgress:
    """A line for each step when it is done, and every few seconds while it is not."""

    def __init__(self, console: Console) -> None:
        self._console = console
        self._step, self._unit, self._total, self._done = "", "", 0, 0
        self._begun = self._said = time.monotonic()

    def start(self, step: str, total: int, unit: str) -> None:
        self._step, self._unit, self._total, self._done = step, unit, total, 0
        self._begun = self._said = time.monotonic()

    def advance(self, count: int) -> None:
        before, self._done = self._done, self._done + count
        now = time.monotonic()
        if not before < self._total <= self._done and now - self._said < SAY_AGAIN:
            return
        self._said, took = now, now - self._begun
        rate = self._done / took if took else 0.0
        told = f"    {self._step}: {self._done:,} of {self._total:,} {self._unit}, {took:.1f} s"
        if self._done < self._total and rate:
            told += f", {rate:,.0f} a second, {(self._total - self._done) / rate:.0f} s left"
        self._console.print(told, markup=False, soft_wrap=True)


@contextmanager
def progress_bars(quiet: bool = False) -> Iterator[TerminalProgress | PlainProgress]:
    """Bars on standard error while the block runs; lines where that is no terminal."""
    if not err.is_terminal and not quiet:
        yield PlainProgress(err)
        return
    columns = (
        TextColumn("    {task.description}"),
        BarColumn(bar_width=24),
        MofNCompleteColumn(),
        TextColumn("{task.fields[rate]}"),
        TimeElapsedColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=err, disable=quiet, refresh_per_second=8) as bars:
        yield TerminalProgress(bars)
