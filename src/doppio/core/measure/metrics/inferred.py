"""Inferred average precision: where some of a list was judged, what was judged stands for what was not.

At the place k of each answer's first chunk the precision is expected to be 1/k + (k-1)/k times the share of answers
among the chunks judged above it (with 0.00001 added to each side, so that nothing judged above means one half). All
that stands in the list is taken to have been open to be judged.

References
----------
.. [1] E. Yilmaz, J. Aslam, "Estimating average precision with incomplete and imperfect judgments", CIKM 2006.
"""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged

EPSILON = 1e-5


class Inferred:
    """See the module."""

    name, title, order, cut, everyday = "inferred-map", "inferred MAP", 14, False, False
    help = "MAP as the judged hits let expect it of all"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        if not len(judged.relevance.rejected):
            return None
        places = judged.first[judged.met]
        right: NDArray[np.int64] = np.cumsum(judged.new) - judged.new
        wrong = np.cumsum(judged.rejected)
        share = (right + EPSILON) / (right + wrong + 2 * EPSILON)
        expected = 1 / (places + 1) + places / (places + 1) * share[places]
        return float(expected.sum() / len(judged.first))


KIND = Inferred()
