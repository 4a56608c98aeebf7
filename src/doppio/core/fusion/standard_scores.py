"""Standard scores: every list in standard deviations of its own."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour
from doppio.core.kinds import Setting


def standard_score_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted sum of their scores, in standard deviations above the last of each list.

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
    A standard score is (score - mean) / deviation; counted from the last of the list, so that a chunk that is absent
    has what the last one has. A list whose scores are all equal gives 1 to each.

    References
    ----------
    .. [1] M. Montague, J. Aslam, "Relevance score normalization for metasearch", CIKM 2001.
    """
    weights = checked(weights, len(rankings))
    given = []
    for (_, scores), weight in zip(rankings, weights, strict=True):
        values = scores.astype(np.float64)
        spread = values.std() if len(values) else 0.0
        given.append(weight * ((values - values.min()) / spread if spread > 0 else np.ones(len(values))))
    return pour([chunks for chunks, _ in rankings], given, weights)


class StandardScores:
    """See `standard_score_fusion`."""

    name, title, order = "standard-scores", "standard scores", 3
    measure = "weighted sum of standard deviations above each list's last"
    help = "Hangs on the depth of a branch: mean, deviation and last are those of the list."
    additive = True
    settings: tuple[Setting, ...] = ()

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Mapping[str, Any]) -> Fused:
        return standard_score_fusion(rankings, weights=weights)


KIND = StandardScores()
