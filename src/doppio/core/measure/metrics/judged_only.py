"""Average precision of the judged alone: chunks that nobody judged are taken out of the list first.

References
----------
.. [1] T. Sakai, "Alternatives to bpref", SIGIR 2007; its condensed lists.
"""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged
from doppio.core.measure.metrics.average_precision import average_precision


class JudgedOnly:
    """See the module."""

    name, title, order, cut, everyday = "judged-map", "MAP of the judged", 13, False, False
    help = "MAP of the list without hits that nobody judged"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        if not len(judged.relevance.rejected):
            return None
        known = judged.matrix.any(axis=0) | judged.rejected
        return average_precision(Judged(judged.ranking[np.asarray(known)], judged.relevance, judged.table))


KIND = JudgedOnly()
