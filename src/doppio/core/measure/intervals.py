"""How sure is a share that was counted on few questions?"""

from math import sqrt

Z95 = 1.959964


def wilson(hits: int, total: int, z: float = Z95) -> tuple[float, float]:
    """Interval of a share, 95 % unless `z` says otherwise; (0, 1) where nothing was counted.

    References
    ----------
    .. [1] E. B. Wilson, "Probable inference, the law of succession, and statistical inference",
       JASA 22, 1927.
    """
    if total == 0:
        return 0.0, 1.0
    share, square = hits / total, z * z
    middle = (share + square / (2 * total)) / (1 + square / total)
    half = z * sqrt(share * (1 - share) / total + square / (4 * total * total)) / (1 + square / total)
    return max(middle - half, 0.0), min(middle + half, 1.0)
