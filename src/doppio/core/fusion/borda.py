"""Borda count: each list gives points by place, and shares what is left among what it lacks."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour
from doppio.core.kinds import Setting


def borda_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by weighted Borda points.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores from 0 upwards: points above what a chunk that no list holds would have.

    Raises
    ------
    ValueError
        If a weight is negative, or their number is wrong.

    Notes
    -----
    Of N chunks in all, a list gives N points to its first, N - 1 to the second, and so on; those that it lacks share
    what is left evenly. Counted are the points above that even share, so that an absent chunk gains nothing; the
    order is the same.

    References
    ----------
    .. [1] J. Aslam, M. Montague, "Models for metasearch", SIGIR 2001.
    """
    weights = checked(weights, len(rankings))
    counting = [chunks for (chunks, _), weight in zip(rankings, weights, strict=True) if weight > 0]
    total = len(np.unique(np.concatenate([*counting, np.empty(0, np.int64)])))
    given = []
    for (chunks, _), weight in zip(rankings, weights, strict=True):
        lacking = total - len(chunks)
        left = (lacking + 1) / 2 if lacking > 0 else 0.0
        given.append(weight * np.maximum(total - np.arange(len(chunks), dtype=np.float64) - left, 0))
    return pour([chunks for chunks, _ in rankings], given, weights)


class Borda:
    """See `borda_fusion`."""

    name, title, order = "borda", "Borda points", 8
    measure = "weighted points by place"
    help = "Hangs on the depth of a branch: there are as many points as chunks in all lists."
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return borda_fusion(rankings, weights=weights)


KIND = Borda()
