"""What a kind of widening is: it says what is handed on around the passages that were found."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind, Settings
from doppio.core.select.pool import Pool
from doppio.core.select.widening.around import Range

NONE = "none"


@dataclass(frozen=True)
class Widened:
    """What may be handed on for each of n passages.

    ladders : for each the ranges that are tried, the widest first; each holds what the passage hands on without
        widening, and the first that the budget holds is taken. Empty where nothing is wanted.
    reasons : n texts, why it was widened; empty where it was not
    foremost : the place of a passage that comes before all others from now on; None where they stay as they were
    """

    ladders: tuple[tuple[Range, ...], ...]
    reasons: tuple[str, ...]
    foremost: int | None = None

    @property
    def order(self) -> NDArray[np.int64]:
        """(n,) int64, the places of the passages in their order from now on."""
        every = np.arange(len(self.reasons))
        return every if self.foremost is None else np.concatenate([[self.foremost], np.delete(every, self.foremost)])

    def in_order(self) -> "Widened":
        """The same for the passages in their order from now on."""
        order = self.order.tolist()
        return Widened(tuple(self.ladders[at] for at in order), tuple(self.reasons[at] for at in order))

    @classmethod
    def each(cls, pool: Pool, wide: Sequence[Range], reason: str) -> "Widened":
        """Every passage to a range of its own, for one reason; those that are it already are left."""
        own = [tuple(row) for row in pool.ranges.tolist()]
        more = [range != before for range, before in zip(wide, own, strict=True)]
        return cls(
            tuple((range,) if wider else () for range, wider in zip(wide, more, strict=True)),
            tuple(reason if wider else "" for wider in more),
        )


class Widening(Kind, Protocol):
    """A kind; its module holds one as `KIND`.

    widens : whether it widens at all
    """

    @property
    def widens(self) -> bool: ...

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        """What is handed on around the passages, which are those that were chosen, best first."""


WIDENING: Family[Widening] = Family("widening", "doppio.core.select.widening", Widening, key="kind")
