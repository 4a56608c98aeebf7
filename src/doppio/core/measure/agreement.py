"""How far do two judges agree beyond what chance would give?"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

NORMAL = 1.959963984540054


@dataclass(frozen=True)
class Agreement:
    """Cohen's kappa with its 95 % interval.

    items : how many both judged
    same : how many they judged alike
    kappa, low, high : 1 where they always agree, 0 where as often as by chance; None where it has no meaning, because
        either gave one grade to all
    """

    items: int
    same: int
    kappa: float | None
    low: float | None
    high: float | None


def cohens_kappa(one: Sequence[float], other: Sequence[float]) -> Agreement:
    """Agreement of two judges on the same items, grade by grade.

    Raises
    ------
    ValueError
        If they are not equally many.

    Notes
    -----
    The interval is that of the large-sample variance; with few items it is too narrow.

    References
    ----------
    .. [1] J. Cohen, "A coefficient of agreement for nominal scales", Educ. and Psychological Measurement 20, 1960.
    .. [2] J. Fleiss, J. Cohen, B. Everitt, "Large sample standard errors of kappa and weighted kappa", Psychological
       Bulletin 72, 1969.
    """
    if len(one) != len(other):
        raise ValueError(f"{len(one)} grades and {len(other)} are not of the same items")
    total = len(one)
    same = sum(left == right for left, right in zip(one, other, strict=True))
    grades = sorted({*one, *other})
    if not total or len(grades) < 2:
        return Agreement(total, same, None, None, None)
    at = {grade: place for place, grade in enumerate(grades)}
    table = np.zeros((len(grades), len(grades)))
    for left, right in zip(one, other, strict=True):
        table[at[left], at[right]] += 1 / total
    rows, columns = table.sum(axis=1), table.sum(axis=0)
    observed, expected = float(np.trace(table)), float(rows @ columns)
    kappa = (observed - expected) / (1 - expected)
    agreed = float((np.diag(table) * (1 - (rows + columns) * (1 - kappa)) ** 2).sum())
    apart = table * (columns[:, None] + rows[None, :]) ** 2
    differing = (1 - kappa) ** 2 * float(apart.sum() - np.trace(apart))
    variance = (agreed + differing - (kappa - expected * (1 - kappa)) ** 2) / (total * (1 - expected) ** 2)
    reach = NORMAL * float(np.sqrt(max(variance, 0.0)))
    return Agreement(total, same, kappa, max(kappa - reach, -1.0), min(kappa + reach, 1.0))
