"""What an order is: it says in which order the passages that were taken are written."""

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind, Settings

BEST_FIRST = "best-first"


class Order(Kind, Protocol):
    """An order; its module holds one as `KIND`."""

    def written(self, ranges: NDArray[np.int64], settings: Settings) -> NDArray[np.int64]:
        """Places of the pieces in the order in which they are written: (n,) int64.

        `ranges` are the pieces, best first, (n, 3): document, start and end.
        """


ORDERS: Family[Order] = Family("orders", "doppio.core.select.orders", Order, key="kind")
