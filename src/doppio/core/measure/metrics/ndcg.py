"""Normalised discounted cumulated gain: what stands high counts for more, by its grade.

The first relevant chunk of a span earns its grade and later ones nothing; gains are linear and discounted by
log2(rank + 1). The ideal has one span a rank, highest grade first, whatever the chunking; a chunk that meets several
spans earns all their grades at once, and the quotient is held to 1.

References
----------
.. [1] K. Jarvelin, J. Kekalainen, "Cumulated gain-based evaluation of IR techniques", TOIS 20(4), 2002.
"""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Ndcg:
    """See the module."""

    name, title, order, cut = "ndcg", "nDCG", 5, True
    help = "gain of the answers, less the lower they stand"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        spans, length = judged.matrix.shape
        grades = judged.relevance.grades
        discounts = 1 / np.log2(np.arange(2, max(length, spans) + 2))
        earned = np.where(judged.met, grades * discounts[np.minimum(judged.first, len(discounts) - 1)], 0.0)
        best = float((np.sort(grades)[::-1] * discounts[:spans])[:k].sum())
        return min(float(earned[judged.first < k].sum()) / best, 1.0) if best else 0.0


KIND = Ndcg()
