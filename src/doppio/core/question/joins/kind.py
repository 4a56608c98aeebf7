"""What a join is: it makes one ranking of what a branch found for each wording."""

from collections.abc import Sequence
from typing import Protocol

from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Family, Kind, Settings

BY_RANKS = "ranks"


class Join(Kind, Protocol):
    """A join; its module holds one as `KIND`."""

    def joined(self, rankings: Sequence[Ranking], settings: Settings) -> Ranking:
        """One ranking, best first; that of the question as it was asked comes first among those that are given."""


JOINS: Family[Join] = Family("joins", "doppio.core.question.joins", Join, key="kind")
