"""Precision: the share of the first k places that hold a relevant chunk."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Precision:
    """See the module."""

    name, title, order, cut, everyday = "precision", "precision", 5, True, True
    help = "relevant chunks among the first k, over k"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return float(judged.relevant[:k].sum() / k)


KIND = Precision()
