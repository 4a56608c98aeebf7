"""Pouring several rankings into one."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.ranking import Ids, Scores

Ranking = tuple[Ids, Scores]


@dataclass(frozen=True)
class Fused:
    """A fused ranking and what each branch gave to it.

    chunks : (n,) int64, best first
    scores : (n,) float32, larger is better
    ranks : (n, branches) int32, the chunk's rank in each branch from 1, 0 where it is absent
    shares : (n, branches) float32, what each branch added; a row adds up to the score
    """

    chunks: Ids
    scores: Scores
    ranks: NDArray[np.int32]
    shares: NDArray[np.float32]


def reciprocal_rank_fusion(
    rankings: Sequence[Ids], *, k: float = 60.0, weights: Sequence[float] | None = None
) -> Fused:
    """Fuse rankings by the weighted sum of reciprocal ranks.

    Parameters
    ----------
    rankings : sequence of (n_i,) int arrays
        Chunk ids, best first, no repeats.
    k : float
        Added to every rank, so that the first few do not decide alone. Positive.
    weights : sequence of float, optional
        One a ranking, none negative; 1 each where not given.

    Returns
    -------
    Fused
        Scores are sums of weight / (k + rank), with ranks from 1.

    Raises
    ------
    ValueError
        If `k` is not positive, a weight is negative, or their number is wrong.

    Notes
    -----
    A chunk absent from a ranking gains nothing from it. One that only rankings of weight 0 hold is not in the fused
    list: a ranking without weight says nothing. Ties keep the smaller chunk id.

    References
    ----------
    .. [1] G. Cormack, C. Clarke, S. Buettcher, "Reciprocal rank fusion outperforms Condorcet and individual
       rank learning methods", SIGIR 2009.
    """
    if k <= 0:
        raise ValueError(f"k: {k} is not positive")
    weights = _checked(weights, len(rankings))
    given = [
        weight / (k + np.arange(1, len(ranking) + 1, dtype=np.float64))
        for ranking, weight in zip(rankings, weights, strict=True)
    ]
    return _pour(rankings, given, weights)


def scaled_score_fusion(rankings: Sequence[Ranking], *, weights: Sequence[float] | None = None) -> Fused:
    """Fuse rankings by the weighted mean of their scores, each brought to the range from 0 to 1.

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
    Scaled are the scores of the returned list: its best is 1, its last 0. A list whose scores are all equal
    becomes all 1. A chunk absent from a ranking gains nothing from it. One that only rankings of weight 0 hold is not
    in the fused list. The last hit of a list that counts scales to 0 and stays in it; where several stand at 0, the
    one that ranks higher in a list that counts comes first. Other ties keep the smaller chunk id.

    References
    ----------
    .. [1] J. Lee, "Analyses of multiple evidence combination", SIGIR 1997, for min-max scaling.
    """
    weights = _checked(weights, len(rankings))
    total = sum(weights)
    if total <= 0:
        raise ValueError("weights: all are zero; at least one must be positive")
    given = []
    for (_, scores), weight in zip(rankings, weights, strict=True):
        values = scores.astype(np.float64)
        low, high = (values.min(), values.max()) if len(values) else (0.0, 0.0)
        scaled = (values - low) / (high - low) if high > low else np.ones(len(values))
        given.append(weight / total * scaled)
    return _pour([chunks for chunks, _ in rankings], given, weights)


def _checked(weights: Sequence[float] | None, count: int) -> Sequence[float]:
    weights = [1.0] * count if weights is None else list(weights)
    if len(weights) != count:
        raise ValueError(f"weights: {len(weights)} given for {count} rankings")
    for weight in weights:
        if weight < 0:
            raise ValueError(f"weights: {weight} is negative")
    return weights


def _pour(rankings: Sequence[Ids], given: Sequence[NDArray[np.float64]], weights: Sequence[float]) -> Fused:
    counting = [np.asarray(r, np.int64) for r, weight in zip(rankings, weights, strict=True) if weight > 0]
    chunks = np.unique(np.concatenate(counting or [np.empty(0, np.int64)]))
    shares = np.zeros((len(chunks), len(rankings)))
    ranks = np.zeros((len(chunks), len(rankings)), np.int32)
    for column, (ranking, share) in enumerate(zip(rankings, given, strict=True)):
        held = np.isin(ranking, chunks)
        rows = np.searchsorted(chunks, np.asarray(ranking)[held])
        shares[rows, column] = share[held]
        ranks[rows, column] = np.flatnonzero(held) + 1
    # Shares are added in the order of their size, so that the order of the branches cannot break a tie.
    scores = np.sort(shares, axis=1).sum(axis=1)
    counted = np.where((ranks > 0) & (np.asarray(weights) > 0), ranks, np.iinfo(np.int32).max)
    nothing = np.where(scores > 0, 0, counted.min(axis=1, initial=np.iinfo(np.int32).max))
    order = np.lexsort((chunks, nothing, -scores))
    return Fused(
        chunks[order].astype(np.int64),
        scores[order].astype(np.float32),
        ranks[order],
        shares[order].astype(np.float32),
    )
