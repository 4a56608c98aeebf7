"""A floor with a promise: no more than so many right answers lost, with so much confidence."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import ArrayLike

CONFIDENCE = 0.9
SHARES = (0.01, 0.02, 0.05)


@dataclass(frozen=True)
class Promise:
    """What can be promised.

    most : the share of right answers that may be lost
    confidence : how sure that is
    floor : the highest floor that keeps it; None where so few questions can promise nothing
    lost, questions : right answers that fall under the floor among those that it was chosen by
    needs : how many questions without a single loss would be enough for a promise
    """

    most: float
    confidence: float
    floor: float | None
    lost: int
    questions: int
    needs: int


def promised(best: ArrayLike, most: float, confidence: float = CONFIDENCE) -> Promise:
    """The highest floor under which at most a share of right answers falls, with confidence.

    Parameters
    ----------
    best : (n,) array
        Of every question whose answer goes on, the score of its best passage that answers; larger is better.
    most : float
        The share that may be lost, above 0 and below 1.
    confidence : float
        Above 0 and below 1.

    Raises
    ------
    ValueError
        If `most` or `confidence` is out of range.

    Notes
    -----
    Whether an answer is lost can only turn from no to yes as a floor rises, so the highest floor whose upper bound on
    the true share is at most `most` keeps the promise for questions like these, although it was chosen by them. The
    bound is that of Clopper and Pearson. A score at the floor is kept.

    References
    ----------
    .. [1] S. Bates and others, "Distribution-free, risk-controlling prediction sets", JACM 68, 2021.
    .. [2] A. Angelopoulos and others, "Conformal risk control", ICLR 2024, where the promise is of the mean.
    .. [3] C. Clopper, E. Pearson, "The use of confidence or fiducial limits", Biometrika 26, 1934.
    """
    for name, value in (("most", most), ("confidence", confidence)):
        if not 0 < value < 1:
            raise ValueError(f"{name}: {value} is not between 0 and 1")
    scores = np.sort(np.asarray(best, np.float64))
    count = len(scores)
    needs = int(np.ceil(np.log(1 - confidence) / np.log(1 - most)))
    borne = np.arange(count)
    allowed = borne[scipy.special.betaincinv(borne + 1, count - borne, confidence) <= most]
    if not len(allowed):
        return Promise(most, confidence, None, 0, count, needs)
    # With so many lost, the next one up is the floor; equal scores stay together, above it.
    floor = float(scores[allowed[-1]])
    return Promise(most, confidence, floor, int((scores < floor).sum()), count, needs)
