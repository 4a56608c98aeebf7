"""The score of the sparse branch."""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist


class Sparse:
    """The logarithm of 1 + what a sparse branch gave; 0 where none found the passage."""

    name, title, order = "sparse", "score of the sparse branch", 3
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        scores = shortlist.branches.get("sparse", np.zeros(len(shortlist.fused)))
        return np.log1p(np.maximum(np.nan_to_num(scores, nan=0.0), 0.0))


KIND = Sparse()
