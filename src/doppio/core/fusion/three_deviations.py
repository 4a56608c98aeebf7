"""Scores scaled by mean and three standard deviations."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, parts, pour
from doppio.core.kinds import Setting


def three_deviation_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted mean of their scores, scaled from three deviations below the mean to three above.

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
    What lies beyond is held at 0 or 1, so a single score far out does not press the others together, as it does where
    the best is 1 and the last 0. A list whose scores are all equal becomes all .5. An absent chunk gains nothing.

    References
    ----------
    .. [1] A. Jain, K. Nandakumar, A. Ross, "Score normalization in multimodal biometric systems", Pattern Recognition
       38, 2005, for scaling by mean and deviation.
    """
    weights = parts(weights, len(rankings))
    given = []
    for (_, scores), weight in zip(rankings, weights, strict=True):
        values = scores.astype(np.float64)
        spread = values.std() if len(values) else 0.0
        scaled = 0.5 + (values - values.mean()) / (6 * spread) if spread > 0 else np.full(len(values), 0.5)
        given.append(weight * np.clip(scaled, 0, 1))
    return pour([chunks for chunks, _ in rankings], given, weights)


class ThreeDeviations:
    """See `three_deviation_fusion`."""

    name, title, order = "three-deviations", "mean and three deviations", 4
    measure = "weighted mean of scores scaled to 0 to 1 by mean and deviation"
    help = "Hangs on the depth of a branch: mean and deviation are those of the list."
    additive = True
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return three_deviation_fusion(rankings, weights=weights)


KIND = ThreeDeviations()
