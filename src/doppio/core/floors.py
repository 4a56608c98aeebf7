"""Floors: what is too poor to go on, in a stage's own scores or beside the best of the list."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings, number, optional
from doppio.core.ranking import Scores

FLOOR = optional(number("floor", "Floor", -1000, 1000, help="in the stage's own scores; empty: nothing falls"))
FLOOR_SHARE = optional(
    number(
        "floor_share",
        "Floor, of the best",
        0,
        1,
        help="what has less than this share of the best falls; empty: nothing",
    )
)
FLOORS: tuple[Setting, ...] = (FLOOR, FLOOR_SHARE)


def above(scores: Scores, settings: Settings) -> NDArray[np.bool_]:
    """Which hits of a ranking go on.

    Parameters
    ----------
    scores : (n,) float array
        Of a ranking; larger is better.
    settings : Settings
        With `floor` and `floor_share`, either of which may be None or lacking.

    Returns
    -------
    (n,) bool array

    Notes
    -----
    The share is of the best score of this ranking. Where that is not above 0 a share of it would lie above it, so
    nothing falls by it.
    """
    kept = np.ones(len(scores), bool)
    floor, share = settings.get("floor"), settings.get("floor_share")
    if floor is not None:
        kept &= scores >= floor
    if share is not None and len(scores):
        best = float(scores.max())
        if best > 0:
            # In the precision of the scores, so that the best never falls under a share of 1.
            kept &= scores >= np.asarray(share * best, scores.dtype)
    return kept
