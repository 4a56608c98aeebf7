"""CombMNZ: summed scaled scores, times the number of lists that hold a chunk."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour, scaled
from doppio.core.kinds import Setting


def comb_mnz_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted sum of their scaled scores, times the number of lists that hold the chunk.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given. A ranking of weight 0 does not count as one that holds.

    Returns
    -------
    Fused
        Scores from 0 upwards.

    Raises
    ------
    ValueError
        If a weight is negative, or their number is wrong.

    Notes
    -----
    Scores are scaled as by `scaled_score_fusion`: the best of a list is 1, its last 0.

    References
    ----------
    .. [1] E. Fox, J. Shaw, "Combination of multiple searches", TREC-2, 1994.
    .. [2] J. Lee, "Analyses of multiple evidence combination", SIGIR 1997.
    """
    weights = checked(weights, len(rankings))
    counting = [chunks for (chunks, _), weight in zip(rankings, weights, strict=True) if weight > 0]
    known, holding = np.unique(np.concatenate([*counting, np.empty(0, np.int64)]), return_counts=True)
    given = []
    for (chunks, scores), weight in zip(rankings, weights, strict=True):
        times = holding[np.searchsorted(known, chunks)] if weight > 0 else np.zeros(len(chunks))
        given.append(weight * scaled(scores) * times)
    return pour([chunks for chunks, _ in rankings], given, weights)


class CombMnz:
    """See `comb_mnz_fusion`."""

    name, title, order = "comb-mnz", "CombMNZ", 7
    measure = "weighted sum of scaled scores, times the lists that hold it"
    help = "Hangs on the depth of a branch: the last of a list is 0, and a deeper one holds more."
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return comb_mnz_fusion(rankings, weights=weights)


KIND = CombMnz()
