"""Processor time: a class that waits for browsers and servers takes long and works little, or the other way round."""

import contextlib
import os

import psutil


def own_work() -> float:
    """Seconds of processor time of this process and of those that it started and that have ended."""
    return sum(os.times()[:4])


def work_of_all() -> float:
    """Seconds of processor time of this process and of all below it: those that run, and those that ended and whose
    end was waited for."""
    own = psutil.Process()
    worked = 0.0
    for process in (own, *own.children(recursive=True)):
        with contextlib.suppress(psutil.NoSuchProcess):
            worked += sum(process.cpu_times()[:4])
    return worked
