"""Hit rate: whether any of the first k chunks is relevant."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Hit:
    """See the module."""

    name, title, order, cut, everyday = "hit", "hit rate", 4, True, True
    help = "whether any of the first k is relevant"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return float(judged.relevant[:k].any())


KIND = Hit()
