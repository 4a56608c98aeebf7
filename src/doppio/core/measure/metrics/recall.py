"""Recall: the share of the answers that have a relevant chunk among the first k."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Recall:
    """See the module."""

    name, title, order, cut, everyday = "recall", "recall", 3, True, True
    help = "share of the answers among the first k"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return float((judged.first < k).mean())


KIND = Recall()
