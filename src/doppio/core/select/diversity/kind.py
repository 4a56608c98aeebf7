"""What a kind of diversity is: it says how alike passages are, so that what repeats can stand back."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind, Settings, number
from doppio.core.select.pool import Pool

NONE = "none"
STRENGTH = number("strength", "Strength", 0, 1, 0.3, help="0: by score alone; 1: only how little a passage repeats")


class Diversity(Kind, Protocol):
    """A kind; its module holds one as `KIND`.

    chooses : whether it chooses at all; otherwise passages come by their scores
    compares_vectors : whether some branch must have vectors
    """

    @property
    def chooses(self) -> bool: ...
    @property
    def compares_vectors(self) -> bool: ...

    def likeness(self, pool: Pool, settings: Settings) -> NDArray[np.float32]:
        """How alike each two passages are: (n, n) float32, 1 where they say the same; 0 where nothing is shared."""


DIVERSITY: Family[Diversity] = Family("diversity", "doppio.core.select.diversity", Diversity, key="kind")
