"""Reciprocal rank: one over the rank of the first relevant chunk; its mean over questions is the MRR."""

from doppio.core.kinds import Setting
from doppio.core.measure.judged import Judged


class ReciprocalRank:
    """See the module."""

    name, title, order, cut, everyday = "mrr", "MRR", 1, False, True
    help = "one over the rank of the first relevant chunk"
    settings: tuple[Setting, ...] = ()

    def of(self, judged: Judged, k: int) -> float | None:
        return 1 / (1 + int(judged.first.min())) if judged.met.any() else 0.0


KIND = ReciprocalRank()
