"""The score of the mix."""

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist


class Mixed:
    """As fusion gave it."""

    name, title, order = "fused", "score of the mix", 1
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        return shortlist.fused


KIND = Mixed()
