"""Whether a difference between two pipelines over the same questions may be chance."""

import numpy as np
from numpy.typing import ArrayLike, NDArray

ROUNDS = 20_000
ROUNDS_AT_ONCE = 500


def paired_randomisation(first: ArrayLike, second: ArrayLike, *, rounds: int = ROUNDS, seed: int = 0) -> float:
    """How often a difference of means as large as this one comes about when each pair is swapped by a coin.

    Parameters
    ----------
    first, second : (n,) arrays
        A metric of both pipelines, question by question.
    rounds : int
        How many random swappings are tried.
    seed : int

    Returns
    -------
    float
        Two-sided p-value, above 0 and at most 1; 1 where no pair differs.

    Raises
    ------
    ValueError
        If the arrays are not of one length.

    Notes
    -----
    Pairs that do not differ have no part in it. Where the swappings of the others are no more than `rounds`, all of
    them are counted and the value is exact; otherwise the observed one counts as one of those drawn.

    References
    ----------
    .. [1] M. Smucker, J. Allan, B. Carterette, "A comparison of statistical significance tests for information
       retrieval evaluation", CIKM 2007.
    """
    a, b = np.asarray(first, np.float64), np.asarray(second, np.float64)
    if a.shape != b.shape or a.ndim != 1:
        raise ValueError(f"one value a question from both is needed, not {a.shape} and {b.shape}")
    apart = (a - b)[a != b]
    if not len(apart):
        return 1.0
    # A little less than what was seen, so that sums that are equal but for their rounding count as equal.
    seen = abs(apart.sum()) * (1 - 1e-12)
    if len(apart) < 63 and 1 << len(apart) <= rounds:
        numbers = np.arange(1 << len(apart))
        signs = 1.0 - 2.0 * ((numbers[:, None] >> np.arange(len(apart))) & 1)
        return float(np.mean(np.abs(signs @ apart) >= seen))
    random = np.random.default_rng(seed)
    as_large = sum(
        int(np.count_nonzero(np.abs(_signs(random, count, len(apart)) @ apart) >= seen))
        for count in portions(rounds, ROUNDS_AT_ONCE)
    )
    return (as_large + 1) / (rounds + 1)


def _signs(random: np.random.Generator, rows: int, columns: int) -> NDArray[np.float64]:
    return np.where(random.integers(0, 2, (rows, columns), np.int8) == 0, 1.0, -1.0)


def portions(total: int, most: int) -> list[int]:
    """A number in parts of at most so many."""
    return [min(most, total - first) for first in range(0, total, most)]
