"""Coverage: the share of the spans' characters that the first k chunks hand on."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged, shared


class Coverage:
    """See the module."""

    name, title, order, cut, everyday = "coverage", "coverage", 8, True, True
    help = "share of the answers' characters that the first k hold"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        if not judged.spans:
            return None
        pieces = judged.pieces(k)
        total = sum(end - start for _, start, end in judged.spans)
        return sum(shared(span, pieces) for span in judged.spans) / total if total else 0.0


KIND = Coverage()
