"""Alpha-nDCG: as nDCG, but a chunk that repeats an answer still earns half of what the one before it did.

References
----------
.. [1] C. Clarke, M. Kolla, G. Cormack and others, "Novelty and diversity in information retrieval evaluation",
   SIGIR 2008; its alpha is one half, and so is this one.
"""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged
from doppio.core.measure.novelty import discounted

ALPHA = 0.5


class AlphaNdcg:
    """See the module."""

    name, title, order, cut, everyday = "alpha-ndcg", "α-nDCG", 7, True, False
    help = "as nDCG, but each chunk that repeats an answer earns half of the one before"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return discounted(judged, k, ALPHA)


KIND = AlphaNdcg()
