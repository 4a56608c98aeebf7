"""Judged share: how much of the first k somebody has looked at; the rest may be answers that nobody knows.

It says nothing of questions whose answers were marked by reading alone, without a hit that was judged as no answer.
"""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class JudgedShare:
    """See the module."""

    name, title, order, cut, everyday = "judged", "judged", 11, True, False
    help = "share of the first k that somebody judged, for questions with hits judged as no answer"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        if not len(judged.relevance.rejected):
            return None
        known = judged.relevant | judged.matrix.any(axis=0) | judged.rejected
        return float(known[:k].mean()) if len(known) else 1.0


KIND = JudgedShare()
