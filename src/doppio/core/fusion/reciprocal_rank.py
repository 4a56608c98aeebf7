"""Reciprocal ranks: what stands high in any list stands high."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour
from doppio.core.kinds import Setting, number
from doppio.core.ranking import Ids


def reciprocal_rank_fusion(
    rankings: Sequence[Ids], *, k: float = 60.0, weights: Sequence[float] | None = None
) -> Fused:
    """Fuse rankings by the weighted sum of reciprocal ranks.

    Parameters
    ----------
    rankings : sequence of (n_i,) int arrays
        Chunk ids, best first, no repeats.
    k : float
        Added to every rank, so that the first few do not decide alone. Positive.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores are sums of weight / (k + rank), with ranks from 1.

    Raises
    ------
    ValueError
        If `k` is not positive, a weight is negative, or their number is wrong.

    Notes
    -----
    A chunk absent from a ranking gains nothing from it. One that only rankings of weight 0 hold is not in the fused
    list: a ranking without weight says nothing. Ties keep the smaller chunk id.

    References
    ----------
    .. [1] G. Cormack, C. Clarke, S. Buettcher, "Reciprocal rank fusion outperforms Condorcet and individual
       rank learning methods", SIGIR 2009.
    """
    if k <= 0:
        raise ValueError(f"k: {k} is not positive")
    weights = checked(weights, len(rankings))
    given = [
        weight / (k + np.arange(1, len(ranking) + 1, dtype=np.float64))
        for ranking, weight in zip(rankings, weights, strict=True)
    ]
    return pour(rankings, given, weights)


class ReciprocalRank:
    """See `reciprocal_rank_fusion`."""

    name, title, order = "reciprocal-rank", "reciprocal ranks", 1
    measure = "sum of weight / (k + rank)"
    help = "Does not hang on the depth of a branch."
    additive = True
    usual = True
    settings: tuple[Setting, ...] = (number("k", "k, added to each rank", 0.001, 10_000, 60),)

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return reciprocal_rank_fusion([chunks for chunks, _ in rankings], k=settings["k"], weights=weights)


KIND = ReciprocalRank()
