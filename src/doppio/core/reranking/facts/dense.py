"""The score of the dense branch."""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist


class Dense:
    """What a dense branch gave; not known where none found the passage."""

    name, title, order = "dense", "score of the dense branch", 2
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        return shortlist.branches.get("dense", np.full(len(shortlist.fused), np.nan))


KIND = Dense()
