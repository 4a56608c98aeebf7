"""The best passages at both ends, the poorest in the middle, where readers of long contexts look least.

References
----------
.. [1] N. Liu and others, "Lost in the Middle: How Language Models Use Long Contexts", TACL 2024.
"""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings


class BothEnds:
    """The first stands first, the second last, the third second, and so on inwards."""

    name, title, order = "both-ends", "best at both ends", 2
    settings: tuple[Setting, ...] = ()

    def written(self, ranges: NDArray[np.int64], settings: Settings) -> NDArray[np.int64]:
        places = np.arange(len(ranges))
        return np.concatenate([places[::2], places[1::2][::-1]])


KIND = BothEnds()
