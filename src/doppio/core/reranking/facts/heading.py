"""Terms of the question in the title and the headings around the passage."""

from doppio.core.kinds import Setting
from doppio.core.reranking.facts.kind import Floats, Shortlist, share_in


class Heading:
    """The share of the question's tokens, by inverse document frequency, that stand in the title and headings."""

    name, title, order = "heading", "terms in title and headings", 5
    settings: tuple[Setting, ...] = ()

    def of(self, shortlist: Shortlist) -> Floats:
        return share_in(shortlist, shortlist.above)


KIND = Heading()
