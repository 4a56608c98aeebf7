"""Scaled scores: every list brought to the range from 0 to 1, and averaged."""

from collections.abc import Mapping, Sequence
from typing import Any

from doppio.core.fusion.pouring import Fused, Ranking, parts, pour, scaled
from doppio.core.kinds import Setting


def scaled_score_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted mean of their scores, each brought to the range from 0 to 1.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
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
    Scaled are the scores of the returned list: its best is 1, its last 0. A list whose scores are all equal
    becomes all 1. A chunk absent from a ranking gains nothing from it. One that only rankings of weight 0 hold is not
    in the fused list. The last hit of a list that counts scales to 0 and stays in it; where several stand at 0, the
    one that ranks higher in a list that counts comes first. Other ties keep the smaller chunk id.

    References
    ----------
    .. [1] J. Lee, "Analyses of multiple evidence combination", SIGIR 1997, for min-max scaling.
    """
    weights = parts(weights, len(rankings))
    given = [weight * scaled(scores) for (_, scores), weight in zip(rankings, weights, strict=True)]
    return pour([chunks for chunks, _ in rankings], given, weights)


class ScaledScores:
    """See `scaled_score_fusion`."""

    name, title, order = "scaled-scores", "scaled scores", 2
    measure = "weighted mean of scores scaled to 0 to 1"
    help = "Hangs on the depth of a branch: the last of a list is 0."
    additive = True
    usual = True
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return scaled_score_fusion(rankings, weights=weights)


KIND = ScaledScores()
