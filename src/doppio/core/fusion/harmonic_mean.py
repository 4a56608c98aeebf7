"""Harmonic mean of scaled scores: a chunk is about as good as the list that likes it least."""

from collections.abc import Mapping, Sequence
from typing import Any

from doppio.core.fusion.pouring import Fused, Ranking, parts, pour, scaled
from doppio.core.kinds import Setting, number


def harmonic_mean_fusion(
    rankings: Sequence[Ranking], *, least: float = 0.05, weights: Sequence[float] | None = None
) -> Fused:
    """Fuse rankings by the weighted harmonic mean of their scaled scores.

    Parameters
    ----------
    rankings : sequence of (chunks, scores) pairs
        Best first, no repeats.
    least : float
        Added to every scaled score, and what a chunk has in a list that lacks it. Positive.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores from 0 upwards: the weighted mean of 1 / `least` - 1 / (score + `least`).

    Raises
    ------
    ValueError
        If `least` is not positive, a weight is negative, their number is wrong, or all are zero.

    Notes
    -----
    Scores are scaled as by `scaled_score_fusion`. The mean itself is 1 / (1 / `least` - score), which
    has the same order; its parts add up as they are here.

    References
    ----------
    .. [1] S. Wu, "Data Fusion in Information Retrieval", Springer 2012, chapter 6, for means that are not linear.
    """
    if least <= 0:
        raise ValueError(f"least: {least} is not positive")
    weights = parts(weights, len(rankings))
    given = [
        weight * (1 / least - 1 / (scaled(scores) + least))
        for (_, scores), weight in zip(rankings, weights, strict=True)
    ]
    return pour([chunks for chunks, _ in rankings], given, weights)


class HarmonicMean:
    """See `harmonic_mean_fusion`."""

    name, title, order = "harmonic-mean", "harmonic mean of scaled scores", 10
    measure = "weighted mean of 1 / least - 1 / (scaled score + least)"
    help = "Hangs on the depth of a branch: the last of a list is 0."
    settings: tuple[Setting, ...] = (number("least", "least, added to each score", 0.0001, 1, 0.05),)

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return harmonic_mean_fusion(rankings, least=settings["least"], weights=weights)


KIND = HarmonicMean()
