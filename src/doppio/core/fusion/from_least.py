"""Scores scaled from the least that they can be: a deeper branch changes none of them."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, parts, pour
from doppio.core.kinds import Setting


def from_least_fusion(
    rankings: Sequence[Ranking], least: Sequence[float | None], *, weights: Sequence[float] | None = None
) -> Fused:
    """Fuse rankings by the weighted mean of their scores, from the least that each can be to the best of its list.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    least : sequence of float or None
        Of each branch the least score that there can be: 0 for BM25, -1 for cosines; None where there is none, and
        the last of the list stands for it.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores lie between 0 and 1.

    Raises
    ------
    ValueError
        If a weight is negative, their number is wrong, or all are zero.

    Notes
    -----
    Neither end of the scale hangs on how deep a branch goes, so the scores of the first chunks are the same at every
    depth. An absent chunk gains nothing, which is what the least would give.

    References
    ----------
    .. [1] S. Bruch, S. Gai, A. Ingber, "An analysis of fusion functions for hybrid retrieval", ACM Transactions on
       Information Systems 42, 2023.
    """
    weights = parts(weights, len(rankings))
    given = []
    for (_, scores), low, weight in zip(rankings, least, weights, strict=True):
        values = scores.astype(np.float64)
        high = values.max() if len(values) else 0.0
        floor = low if low is not None else (values.min() if len(values) else 0.0)
        scaled = (values - floor) / (high - floor) if high > floor else np.ones(len(values))
        given.append(weight * np.clip(scaled, 0, 1))
    return pour([chunks for chunks, _ in rankings], given, weights)


class FromLeast:
    """See `from_least_fusion`; the pipeline says what the least of each branch is."""

    name, title, order = "scaled-from-least", "scaled from the least possible", 5
    measure = "weighted mean of scores scaled to 0 to 1, 0 being the least possible"
    help = "Does not hang on the depth of a branch."
    additive = True
    settings: tuple[Setting, ...] = ()
    by_least = True

    def fuse(
        self,
        rankings: Sequence[Ranking],
        weights: Sequence[float],
        settings: Mapping[str, Any],
        least: Sequence[float | None] = (),
    ) -> Fused:
        return from_least_fusion(rankings, least or [None] * len(rankings), weights=weights)


KIND = FromLeast()
