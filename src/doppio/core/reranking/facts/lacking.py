"""Rare terms of the question that the passage lacks."""

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist, share_in


class Lacking:
    """The share of the question's tokens, by inverse document frequency, that do not stand in the passage."""

    name, title, order = "lacking", "rare terms that it lacks", 4
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        return 1.0 - share_in(shortlist, shortlist.held)


KIND = Lacking()
