"""No diversity: passages come by their scores."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings
from doppio.core.select.diversity.kind import NONE
from doppio.core.select.pool import Pool


class ByScore:
    """See the module."""

    name, title, order = NONE, "by score alone", 1
    chooses = compares_vectors = False
    settings: tuple[Setting, ...] = ()

    def likeness(self, pool: Pool, settings: Settings) -> NDArray[np.float32]:
        return np.zeros((len(pool), len(pool)), np.float32)


KIND = ByScore()
