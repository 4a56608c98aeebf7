"""A metric: whether all answers are met among the first k."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class Everything:
    name, title, cut, everyday = "all", "all answers", True, True
    help = "whether every answer is among the first k"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return float((judged.first < k).all())


KIND = Everything()
