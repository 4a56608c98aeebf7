"""Differences between recipes over the same questions: how large, how sure, and what this many questions can see."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from doppio.core.measure.significance import paired_randomisation, portions

Floats = NDArray[np.float64]
# Rounds of the randomisation and of the bootstrap; the same ones for every pair, a portion of them in memory.
ROUNDS, RESAMPLES, PORTION = 20_000, 4_000, 1_000
LEVEL, POWER = 0.05, 0.8
BETTER, WORSE, NOISE, SAME = "better", "worse", "within noise", "the same on every question"
# Sums that are equal but for their rounding count as equal.
ROUNDING = 1e-5


@dataclass(frozen=True)
class Difference:
    """What a metric gains from one recipe to another, question by question.

    questions : those that both have a figure for
    mean : of the second less the first; larger is better
    low, high : its interval
    p : two-sided, that it is chance
    wins, losses, ties : questions on which the second is better, worse, equal
    sees : the smallest true difference that so many questions would find in four trials of five
    more : how many more questions would find half of that
    """

    questions: int
    mean: float
    low: float
    high: float
    p: float
    wins: int
    losses: int
    ties: int
    sees: float
    more: int


def compare(
    values: Floats,
    pairs: Sequence[tuple[int, int]],
    *,
    groups: NDArray[np.int64] | None = None,
    rounds: int = ROUNDS,
    resamples: int = RESAMPLES,
    seed: int = 0,
) -> list[Difference]:
    """Compare pairs of recipes.

    Parameters
    ----------
    values : (r, q) float64 array
        A metric of r recipes over q questions; NaN where one has no figure.
    pairs : sequence of (int, int)
        Rows of `values`: from which, to which.
    groups : (q,) int64 array or None
        Questions of one group are rewordings of each other, and are drawn and swapped together.
    rounds, resamples : int
        Of the randomisation test and of the bootstrap.
    seed : int

    Returns
    -------
    list of Difference
        In the order of the pairs.

    Notes
    -----
    p is that of the paired randomisation test. The interval is that of the bootstrap over questions, corrected for
    bias and acceleration; where no pair differs it is (0, 0). What can be seen is told by the spread of the
    differences, as for a paired t-test at a level of .05 with a power of .8.

    References
    ----------
    .. [1] M. Smucker, J. Allan, B. Carterette, "A comparison of statistical significance tests for information
       retrieval evaluation", CIKM 2007.
    .. [2] T. Sakai, "Evaluating evaluation metrics based on the bootstrap", SIGIR 2006.
    .. [3] B. Efron, "Better bootstrap confidence intervals", JASA 82, 1987.
    .. [4] T. Sakai, "Topic set size design", Information Retrieval Journal 19, 2016.
    """
    if not len(pairs):
        return []
    first, second = np.array(pairs, np.int64).T
    apart = values[second] - values[first]
    known = ~np.isnan(apart)
    apart = np.where(known, apart, 0.0)
    sums, counts = _of_units(apart, known, groups)
    p = _chances(sums, rounds, seed)
    low, high = _intervals(sums, counts, resamples, seed + 1)
    found = []
    for row in range(len(pairs)):
        total = int(known[row].sum())
        sees, more = detectable(_unit_means(sums[row], counts[row]))
        found.append(
            Difference(
                total, float(apart[row].sum() / total) if total else 0.0, float(low[row]), float(high[row]),
                float(p[row]), int((apart[row] > 0).sum()), int((apart[row] < 0).sum()),
                int(total - np.count_nonzero(apart[row])), sees, more,
            )
        )  # fmt: skip
    return found


def in_words(difference: Difference, p: float) -> str:
    """How a difference is told; `p` is corrected where several are looked at."""
    if not difference.wins and not difference.losses:
        return SAME
    if p >= LEVEL:
        return NOISE
    return BETTER if difference.mean > 0 else WORSE


def mean_intervals(
    values: Floats, *, groups: NDArray[np.int64] | None = None, resamples: int = RESAMPLES, seed: int = 0
) -> list[tuple[float, float]]:
    """The interval of each row's mean, 95 %, as `compare` has those of differences: values is (r, q), NaN unknown."""
    known = ~np.isnan(values)
    sums, counts = _of_units(np.where(known, values, 0.0), known, groups)
    return list(zip(*(bound.tolist() for bound in _intervals(sums, counts, resamples, seed + 1)), strict=True))


def holm(p: Sequence[float]) -> list[float]:
    """Values of p corrected for having looked at all of them, in the order given.

    References
    ----------
    .. [1] S. Holm, "A simple sequentially rejective multiple test procedure", Scandinavian Journal of Statistics 6,
       1979.
    """
    order = np.argsort(p, kind="stable")
    corrected = np.array(p, np.float64)[order] * np.arange(len(p), 0, -1)
    found = np.empty(len(p))
    found[order] = np.minimum(np.maximum.accumulate(corrected), 1.0)
    return [float(value) for value in found]


def detectable(apart: Floats) -> tuple[float, int]:
    """The smallest difference that differences like these would find, and how many more would find half of it.

    Parameters
    ----------
    apart : (n,) float64 array
        Differences question by question.

    Notes
    -----
    By n = (z(1 - level / 2) + z(power))^2 spread^2 / difference^2 + z(1 - level / 2)^2 / 2, as for a paired t-test.

    References
    ----------
    .. [1] T. Sakai, "Topic set size design", Information Retrieval Journal 19, 2016.
    """
    count = len(apart)
    z, power = float(scipy.special.ndtri(1 - LEVEL / 2)), float(scipy.special.ndtri(POWER))
    left = count - z * z / 2
    spread = float(apart.std(ddof=1)) if count > 1 else 0.0
    if left <= 0 or spread == 0:
        return 0.0, 0
    sees = (z + power) * spread / left**0.5
    wanted = ((z + power) * spread / (sees / 2)) ** 2 + z * z / 2
    return sees, max(int(np.ceil(wanted - 1e-9)) - count, 0)


def _of_units(table: Floats, known: NDArray[np.bool_], groups: NDArray[np.int64] | None) -> tuple[Floats, Floats]:
    """Sums of a table, and counts of what is known, of each unit: a group, or a question where there are none."""
    _, unit = np.unique(np.arange(table.shape[1]) if groups is None else groups, return_inverse=True)
    return _by_unit(table, unit), _by_unit(known.astype(np.float64), unit)


def _by_unit(table: Floats, unit: NDArray[np.int64]) -> Floats:
    """Sums over the questions of each unit: (pairs, units)."""
    found = np.zeros((len(table), int(unit.max()) + 1 if len(unit) else 0))
    np.add.at(found.T, unit, table.T)
    return found


def _unit_means(sums: Floats, counts: Floats) -> Floats:
    told = counts > 0
    return sums[told] / counts[told]


def _chances(sums: Floats, rounds: int, seed: int) -> Floats:
    """Values of p of all pairs, by the same swappings; few units that differ are counted out exactly."""
    differing = np.count_nonzero(sums, axis=1)
    found = np.ones(len(sums))
    exact = (differing < 63) & (2.0 ** np.minimum(differing, 63) <= rounds)
    for row in np.flatnonzero(exact):
        found[row] = paired_randomisation(sums[row], np.zeros(sums.shape[1]), rounds=rounds)
    drawn = np.flatnonzero(~exact)
    if len(drawn):
        random = np.random.default_rng(seed)
        table = np.ascontiguousarray(sums[drawn].T, np.float32)
        seen = np.abs(sums[drawn].sum(axis=1)) * (1 - ROUNDING)
        as_large = np.zeros(len(drawn), np.int64)
        for count in portions(rounds, PORTION):
            signs = random.integers(0, 2, (count, sums.shape[1]), np.int8).astype(np.float32) * 2 - 1
            as_large += np.count_nonzero(np.abs(signs @ table) >= seen, axis=0)
        found[drawn] = (as_large + 1) / (rounds + 1)
    return found


def _intervals(sums: Floats, counts: Floats, resamples: int, seed: int) -> tuple[Floats, Floats]:
    """Bounds of the means, by resampled units."""
    pairs, units = sums.shape
    low, high = np.zeros(pairs), np.zeros(pairs)
    moving = np.flatnonzero(sums.any(axis=1))
    if not len(moving):
        return low, high
    random = np.random.default_rng(seed)
    of_sums = np.ascontiguousarray(sums[moving].T, np.float32)
    alike = bool((counts[moving] == counts[moving[0]]).all())
    of_counts = np.ascontiguousarray(counts[moving[:1] if alike else moving].T, np.float32)
    means = np.empty((resamples, len(moving)), np.float32)
    place = 0
    for count in portions(resamples, PORTION):
        drawn = random.integers(0, units, (count, units))
        drawn += np.arange(count)[:, None] * units
        times = np.bincount(drawn.ravel(), minlength=count * units).reshape(count, units).astype(np.float32)
        means[place : place + count] = (times @ of_sums) / np.maximum(times @ of_counts, 1e-9)
        place += count
    means.sort(axis=0)
    for column, row in enumerate(moving):
        low[row], high[row] = _corrected(means[:, column].astype(np.float64), sums[row], counts[row])
    return low, high


def _corrected(means: Floats, sums: Floats, counts: Floats) -> tuple[float, float]:
    """Bounds with bias and acceleration corrected; `means` are sorted."""
    total, of = float(sums.sum()), float(counts.sum())
    mean = total / of
    near = abs(mean) * ROUNDING + 1e-12
    below = np.searchsorted(means, mean - near)
    equal = np.searchsorted(means, mean + near, side="right") - below
    bias = float(scipy.special.ndtri(np.clip((below + equal / 2) / len(means), 1e-6, 1 - 1e-6)))
    left = np.maximum(of - counts, 1e-9)
    without = (total - sums) / left
    away = without.mean() - without
    spread = float((away**2).sum())
    pull = float((away**3).sum()) / (6 * spread**1.5) if spread > 0 else 0.0
    bounds = []
    for z in (scipy.special.ndtri(LEVEL / 2), scipy.special.ndtri(1 - LEVEL / 2)):
        shifted = bias + (bias + z) / (1 - pull * (bias + z))
        bounds.append(float(np.quantile(means, scipy.special.ndtr(shifted))))
    return bounds[0], bounds[1]
