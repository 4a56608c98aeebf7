"""Density: the share of the characters handed on by the first k chunks that are answer."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged, shared


class Density:
    """See the module."""

    name, title, order, cut, everyday = "density", "density", 9, True, True
    help = "share of the first k that is answer"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        if not judged.spans:
            return None
        pieces = judged.pieces(k)
        paid = sum(end - start for _, start, end in pieces)
        return sum(shared(piece, judged.spans) for piece in pieces) / paid if paid else 0.0


KIND = Density()
