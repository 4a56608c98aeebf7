"""One score of several, with a share of the first stage's; and what a pair's own scores say of it."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.scorer_folder import Calibration
from doppio.core.ranking import Scores


def standardised(scores: Scores) -> NDArray[np.float64]:
    """Scores less their mean, in standard deviations; zeros where they have no spread."""
    wide = scores.astype(np.float64)
    spread = float(np.std(wide)) if len(wide) else 0.0
    return (wide - np.mean(wide)) / spread if spread > 0 else np.zeros(len(wide))


def combined(raw: Sequence[Scores], weights: Sequence[float], first_stage: Scores, blend: float) -> Scores:
    """Scores of several scorers as one.

    Parameters
    ----------
    raw : of each scorer (n,) float32
    weights : of each scorer, at least 0
    first_stage : (n,) float32
    blend : float

    Returns
    -------
    (n,) float32

    Notes
    -----
    Of one scorer: see `blended_scores`. Of several: the weighted mean of what each gave, standardised over the
    shortlist, + blend x the first stage's standardised score.
    """
    if len(raw) == 1:
        return blended_scores(raw[0], first_stage, blend)
    total = sum(weights)
    mixed = sum(
        (weight / total * standardised(one) for one, weight in zip(raw, weights, strict=True)),
        np.zeros(len(first_stage)),
    )
    return np.asarray(mixed + blend * standardised(first_stage), np.float32)


def blended_scores(raw: Scores, first_stage: Scores, blend: float) -> Scores:
    """Raw scores plus a share of the first stage's.

    Notes
    -----
    raw + blend x s(raw) x (first - mean(first)) / s(first), s being the standard deviation over the shortlist: the
    first stage is brought to the spread of the joint scores, so that one share means the same for every scorer. Where
    either has no spread nothing is added.
    """
    if not blend or not len(raw):
        return raw
    return (raw + blend * float(np.std(raw, dtype=np.float64)) * standardised(first_stage)).astype(np.float32)


def pair_logits(raw: Sequence[Scores], calibrations: Sequence[Calibration | None]) -> NDArray[np.float64] | None:
    """Log-odds that each passage answers, by the scorers that are calibrated; None where none is.

    Notes
    -----
    They rest on the pair's own scores alone, so the same pair has the same probability in every shortlist. Of several
    scorers the mean is taken.
    """
    logits = [cal.logits(scores) for scores, cal in zip(raw, calibrations, strict=True) if cal]
    return np.mean(logits, axis=0) if logits else None
