"""Normalised discounted cumulated gain: what stands high counts for more, by its grade.

The first relevant chunk of an answer earns its grade and later ones nothing; gains are linear and discounted by
log2(rank + 1). The ideal is the best order of the chunks there are, found greedily: where one chunk meets five
answers, standing second is not ideal.

References
----------
.. [1] K. Jarvelin, J. Kekalainen, "Cumulated gain-based evaluation of IR techniques", TOIS 20(4), 2002.
"""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged
from doppio.core.measure.novelty import discounted


class Ndcg:
    """See the module."""

    name, title, order, cut, everyday = "ndcg", "nDCG", 6, True, True
    help = "gain of the answers, less the lower they stand, over that of the best order"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return discounted(judged, k, 1.0)


KIND = Ndcg()
