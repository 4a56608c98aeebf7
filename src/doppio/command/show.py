"""What the command line prints: tables and progress bars on a terminal, plain lines elsewhere."""

import sys
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


@contextmanager
def progress_bars(quiet: bool = False) -> Iterator[TerminalProgress]:
    """Bars on standard error while the block runs."""
    columns = (
        TextColumn("{task.description}"),
        BarColumn(bar_width=24),
        MofNCompleteColumn(),
        TextColumn("{task.fields[rate]}"),
        TimeElapsedColumn(),
        TextColumn("left"),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=err, disable=quiet, refresh_per_second=8) as bars:
        yield TerminalProgress(bars)
