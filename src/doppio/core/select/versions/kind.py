"""What a rule for versions is: of passages that are nearly the same in several documents it says which one stands."""

from collections.abc import Sequence
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.twins import near_identical
from doppio.core.kinds import Family, Kind, Settings, number
from doppio.core.select.pool import Pool

NONE = "none"
ALIKE = number(
    "alike", "Alike from", 0.3, 1, 0.8, help="share of their word triples that two passages have in common"
)


class Versions(Kind, Protocol):
    """A rule; its module holds one as `KIND`.

    chooses : whether it looks for versions at all
    """

    @property
    def chooses(self) -> bool: ...

    def best(self, pool: Pool, places: Sequence[int], settings: Settings) -> int:
        """Which of some places of the pool stands for all of them; they are given from the best score down."""


VERSIONS: Family[Versions] = Family("versions", "doppio.core.select.versions", Versions, key="kind")


def instead_of(rule: Versions, pool: Pool, settings: Settings) -> NDArray[np.int64]:
    """For each passage the place of the one that stands for it, its own where it stands itself: (n,) int64.

    Notes
    -----
    Passages of one document are never versions of each other: a text that repeats itself is left to diversity.
    A passage is a version of all that are alike enough to any of its versions.
    """
    stands = np.arange(len(pool))
    if not rule.chooses or len(pool) < 2:
        return stands
    documents = pool.documents
    group = list(range(len(pool)))
    for twins in near_identical(pool.texts, least=settings["alike"]):
        if documents[twins.one] != documents[twins.other]:
            low, high = sorted((group[twins.one], group[twins.other]))
            group = [low if own == high else own for own in group]
    for first in sorted(set(group)):
        places = [place for place, own in enumerate(group) if own == first]
        if len(places) > 1:
            stands[places] = rule.best(pool, places, settings)
    return stands
