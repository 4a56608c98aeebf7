"""How long did it take?"""

import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")


def timed(work: Callable[[], T]) -> tuple[T, float]:
    """What some work gives, and the seconds that it took."""
    begun = time.perf_counter()
    result = work()
    return result, time.perf_counter() - begun
