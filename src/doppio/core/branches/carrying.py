"""What chunks carry, such as pictures or the pages that they stand on: each once, and by whom."""

from collections.abc import Callable, Sequence
from typing import Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray


class Carried(Protocol):
    """Whatever is carried; `digest` is another one for every other."""

    @property
    def digest(self) -> str: ...


C = TypeVar("C", bound=Carried)


def carried_once(
    read: Callable[[Sequence[int]], list[list[C]]], numbers: NDArray[np.int64], at_once: int
) -> tuple[list[tuple[int, int]], list[C]]:
    """Pairs of a chunk's row and the place of what it carries, and all that is carried, in the order it was met.

    Parameters
    ----------
    read : gives what some chunks carry, each a list
    numbers : (n,) int64, the chunks
    at_once : chunks that are asked for at a time
    """
    pairs: list[tuple[int, int]] = []
    once: dict[str, tuple[int, C]] = {}
    for first in range(0, len(numbers), at_once):
        for row, found in enumerate(read(numbers[first : first + at_once].tolist()), first):
            for one in found:
                place, _ = once.setdefault(one.digest, (len(once), one))
                pairs.append((row, place))
    return pairs, [one for _, one in once.values()]
