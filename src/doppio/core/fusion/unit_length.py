"""Scores of lists that are brought to unit length."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour
from doppio.core.kinds import Setting


def unit_length_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted sum of their scores, each list divided by its Euclidean length.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

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
    A score below 0 counts as 0, since an absent chunk gains nothing. A list of nothing but 0 gives nothing.

    References
    ----------
    .. [1] S. Wu, "Data Fusion in Information Retrieval", Springer 2012, chapter 2, for normalisation by length.
    """
    weights = checked(weights, len(rankings))
    given = []
    for (_, scores), weight in zip(rankings, weights, strict=True):
        values = np.maximum(scores.astype(np.float64), 0)
        length = float(np.linalg.norm(values))
        given.append(weight * values / length if length > 0 else np.zeros(len(values)))
    return pour([chunks for chunks, _ in rankings], given, weights)


class UnitLength:
    """See `unit_length_fusion`."""

    name, title, order = "unit-length", "lists of unit length", 6
    measure = "weighted sum of scores of lists of unit length"
    help = "Hangs on the depth of a branch: a longer list has smaller scores."
    additive = True
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return unit_length_fusion(rankings, weights=weights)


KIND = UnitLength()
