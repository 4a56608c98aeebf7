"""How long the passage is."""

import numpy as np

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist


class Length:
    """The binary logarithm of its tokens."""

    name, title, order = "length", "length", 7
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        return np.log2(np.array([1.0 + len(own) for own in shortlist.held]))


KIND = Length()
