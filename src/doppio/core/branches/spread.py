"""Indexes whose segments stand on other machines: a question goes to all of them, and what they find is merged.

Nothing is near: a segment is searched as it would be here, with the statistics of all segments, and its candidates
come back with full scores, so the ranking is that of one index to the last bit. A part that does not answer is left
out, and that is said.
"""

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any, Generic, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import DoppioError

K = TypeVar("K")
# A mask of chunks as it travels: its bits, and how many there are.
Mask = tuple[NDArray[np.uint8], int] | None
_left_out: ContextVar[set[str] | None] = ContextVar("left_out", default=None)


@dataclass(frozen=True)
class Index:
    """How an index over some segments is opened where they stand: a function of a module, and what it takes beside
    the place and the segments; hashable."""

    open: Callable[..., Any]
    given: tuple[Any, ...]


@dataclass(frozen=True)
class Answers:
    """What the segments have answered, some of them together; `complete` is whether all did."""

    found: list[Any]
    complete: bool


class Spread(Protocol):
    """The segments of a list, spread over machines."""

    def ask(self, index: Index, method: str, *given: Any) -> Answers:
        """Call a method of the index over the segments of each machine.

        Raises
        ------
        DoppioError
            If none answers, or one says that something is wrong.
        """


@contextmanager
def left_out() -> Iterator[set[str]]:
    """What did not answer while the block ran, in words."""
    found: set[str] = set()
    before = _left_out.set(found)
    try:
        yield found
    finally:
        _left_out.reset(before)


def leave_out(what: str) -> None:
    """Say that something did not answer, to whoever wants to know."""
    found = _left_out.get()
    if found is not None:
        found.add(what)


def totals(spread: Spread, index: Index) -> list[tuple[int, int]]:
    """What the segments of an index say of their size, all of them.

    Raises
    ------
    DoppioError
        If not all of them answer.
    """
    answers = spread.ask(index, "totals")
    if not answers.complete:
        raise DoppioError("Not all segments of the index answered while it was opened; try again.")
    return answers.found


class Sums(Generic[K]):
    """Counts by term, summed over the segments of an index; each is asked for once.

    method : of the index over some segments: takes terms, and gives a row of numbers, or one, for each
    most : terms whose counts stay at hand
    """

    def __init__(self, spread: Spread, index: Index, method: str, most: int = 200_000) -> None:
        self._spread, self._index, self._method, self._most = spread, index, method, most
        self._known: dict[K, Any] = {}

    def of(self, terms: Sequence[K], *more: Any) -> dict[K, Any]:
        """Those of several terms at once. What not all segments have part in is not kept."""
        known = self._known
        lacking = [term for term in dict.fromkeys(terms) if term not in known]
        found = {term: known[term] for term in terms if term in known}
        if lacking:
            answers = self._spread.ask(self._index, self._method, lacking, *more)
            new = dict(zip(lacking, np.array(answers.found, np.int64).sum(axis=0).tolist(), strict=True))
            found |= new
            if answers.complete:
                self._known = {**({} if len(known) > self._most else known), **new}
        return found


def packed(allowed: NDArray[np.bool_] | None) -> Mask:
    """A mask of chunks as it travels."""
    return None if allowed is None else (np.packbits(allowed), len(allowed))


def unpacked(mask: Mask) -> NDArray[np.bool_] | None:
    """The mask again."""
    return None if mask is None else np.unpackbits(mask[0], count=mask[1]).astype(bool)
