"""Timing, and rows of the table of ratios."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

PAUSE = 0.06


@dataclass(frozen=True)
class Row:
    """A ratio of two measurements of one run.

    wanted : what is claimed, as words
    bound : the claim as a number, or None where none is made
    larger : whether larger is better
    """

    what: str
    beside: str
    wanted: str
    ratio: float
    bound: float | None
    larger: bool

    @property
    def holds(self) -> bool | None:
        if self.bound is None:
            return None
        return self.ratio >= self.bound if self.larger else self.ratio <= self.bound


def seconds_of(work: Callable[[Any], Any], given: Any) -> float:
    """Seconds of one call."""
    begun = time.perf_counter()
    work(given)
    return time.perf_counter() - begun


def in_turns(
    one: Callable[[Any], Any], other: Callable[[Any], Any], given: Sequence[Any], turn: int = 20
) -> tuple[float, float]:
    """Median seconds of two ways on the same inputs, `turn` at a time in turns: a slow moment strikes both.

    Between them lies a pause: the threads of the linear-algebra library look for more work for some hundredths of a
    second after each product, and would take a core from whatever comes next.
    """
    times: tuple[list[float], list[float]] = ([], [])
    for first in range(0, len(given), turn):
        for way, found in zip((one, other), times, strict=True):
            time.sleep(PAUSE)
            found += [seconds_of(way, value) for value in given[first : first + turn]]
    return float(np.median(times[0])), float(np.median(times[1]))


def mean_time(work: Callable[[Any], Any], given: Sequence[Any]) -> float:
    """Mean seconds of a call over inputs that differ in kind."""
    return float(np.mean([seconds_of(work, one) for one in given]))
