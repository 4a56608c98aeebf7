"""Work over a long range, shared among threads."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import TypeVar

from doppio.core.company import company
from doppio.core.cores import cores

T = TypeVar("T")
THREADS = cores()
WORTH_SHARING = 20_000


def in_spans(count: int, work: Callable[[tuple[int, int]], T], worth: int = WORTH_SHARING) -> list[T]:
    """Do work over [0, count) in as many spans as there are threads, or in one where there is little or others ask
    too: each core has work then."""
    if count < worth or not company.alone:
        return [work((0, count))]
    step = -(-count // THREADS)
    return list(_pool().map(work, [(low, min(low + step, count)) for low in range(0, count, step)]))


@cache
def _pool() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(THREADS, "scan")
