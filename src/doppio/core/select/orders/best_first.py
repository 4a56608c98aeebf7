"""The best passage is read first."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings
from doppio.core.select.orders.kind import BEST_FIRST


class BestFirst:
    """See the module."""

    name, title, order = BEST_FIRST, "best first", 1
    settings: tuple[Setting, ...] = ()

    def written(self, ranges: NDArray[np.int64], settings: Settings) -> NDArray[np.int64]:
        return np.arange(len(ranges))


KIND = BestFirst()
