"""Average precision: how pure the list is down to each answer; its mean over questions is the MAP.

For each answer the precision at the first chunk that meets it, and 0 where none does; their mean. A chunk counts as
relevant there when it meets an answer that no chunk above it has met, so that overlap cannot earn twice.

References
----------
.. [1] E. Voorhees, D. Harman, "TREC: experiment and evaluation in information retrieval", MIT Press 2005, chapter 3.
"""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class AveragePrecision:
    """See the module."""

    name, title, order, cut, everyday = "map", "MAP", 2, False, True
    help = "mean precision at each answer's first chunk"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return average_precision(judged)


def average_precision(judged: Judged) -> float:
    """See the module."""
    places = judged.first[judged.met]
    useful = np.cumsum(judged.new)
    return float((useful[places] / (places + 1)).sum() / len(judged.first))


KIND = AveragePrecision()
