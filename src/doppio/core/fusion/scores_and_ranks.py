"""Scores and ranks: what a branch gives hangs partly on its score, partly on its rank."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, parts, pour, scaled
from doppio.core.kinds import Setting, number


def scores_and_ranks_fusion(
    rankings: Sequence[Ranking], *, ranks: float = 0.5, k: float = 60.0, weights: Sequence[float] | None = None
) -> Fused:
    """Fuse rankings by the weighted mean of scaled scores and of reciprocal ranks.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    ranks : float
        The share of the rank in what a branch gives, 0 to 1; the scaled score has the rest.
    k : float
        Is added to each rank.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores lie between 0 and 1.

    Raises
    ------
    ValueError
        If `ranks` is not between 0 and 1, `k` is not positive, a weight is negative, their number is wrong, or all
        are zero.

    Notes
    -----
    The first of a ranking gives 1 by score and by rank, whatever the share. A share of 0 is the fusion of scaled
    scores, one of 1 has the order of reciprocal ranks.

    References
    ----------
    .. [1] J. Lee, "Analyses of multiple evidence combination", SIGIR 1997, which combines by scores and by ranks.
    """
    if not 0 <= ranks <= 1:
        raise ValueError(f"ranks: {ranks} is not between 0 and 1")
    if k <= 0:
        raise ValueError(f"k: {k} is not positive")
    weights = parts(weights, len(rankings))
    given = []
    for (chunks, scores), weight in zip(rankings, weights, strict=True):
        by_rank = (k + 1) / (k + np.arange(1, len(chunks) + 1, dtype=np.float64))
        given.append(weight * ((1 - ranks) * scaled(scores) + ranks * by_rank))
    return pour([chunks for chunks, _ in rankings], given, weights)


class ScoresAndRanks:
    """See `scores_and_ranks_fusion`."""

    name, title, order = "scores-and-ranks", "scaled scores and ranks", 2.5
    measure = "weighted mean of scaled scores and reciprocal ranks, 0 to 1"
    help = "Hangs on the depth of a branch as far as scores count: the last of a list is 0."
    additive = True
    # With these beside the recipe's own method weights are fitted; more would be told apart by few questions.
    fitted_with = ({"ranks": 0.25}, {"ranks": 0.5}, {"ranks": 0.75})
    settings: tuple[Setting, ...] = (
        number("ranks", "Share of the ranks", 0, 1, 0.5, help="the scaled scores have the rest"),
        number("k", "k, added to each rank", 0.001, 10_000, 60),
    )

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return scores_and_ranks_fusion(rankings, ranks=settings["ranks"], k=settings["k"], weights=weights)


KIND = ScoresAndRanks()
