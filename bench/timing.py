"""Timing, and rows of the table of ratios."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np


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


def mean_time(work: Callable[[Any], Any], given: Sequence[Any]) -> float:
    """Mean seconds of a call over inputs that differ in kind."""
    return float(np.mean([seconds_of(work, one) for one in given]))
