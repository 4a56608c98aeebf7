"""Results that stay at hand until there are too many of them."""

from collections.abc import Callable
from typing import TypeVar

K = TypeVar("K")
V = TypeVar("V")


def kept(held: dict[K, V], key: K, make: Callable[[], V], most: int) -> V:
    """What is at hand under a key, or is made now; where `most` are held already all of them are forgotten first.

    Notes
    -----
    Several threads may ask at once: at worst one thing is made twice, and everybody gets it.
    """
    found = held.get(key)
    if found is None:
        found = make()
        if len(held) >= most:
            held.clear()
        held[key] = found
    return found
