"""Binary preference: how seldom a chunk that was judged as no answer stands above one that meets one.

bpref = 1/R sum over the answers met of 1 - min(N above, R) / min(R, N), with R answers and N chunks judged as no
answer, of those only the first R counting. Chunks that nobody judged are passed over, so holes in the labels move it
little. It says nothing where no chunk was judged as no answer.

References
----------
.. [1] C. Buckley, E. Voorhees, "Retrieval evaluation with incomplete information", SIGIR 2004.
"""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Bpref:
    """See the module."""

    name, title, order, cut, everyday = "bpref", "bpref", 12, False, False
    help = "how seldom a hit judged as no answer stands above an answer; unjudged hits do not count"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        wrong, right = len(judged.relevance.rejected), len(judged.first)
        if not wrong:
            return None
        above = np.cumsum(judged.rejected)[judged.first[judged.met]]
        return float((1 - np.minimum(above, right) / min(right, wrong)).clip(0).sum() / right)


KIND = Bpref()
