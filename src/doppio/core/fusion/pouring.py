"""Pouring several rankings into one: what all methods share."""

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


def checked(weights: Sequence[float] | None, count: int) -> Sequence[float]:
    """Weights of `count` rankings, 1 each where none are given.

    Raises
    ------
    ValueError
        If one is negative, or their number is wrong.
    """
    weights = [1.0] * count if weights is None else list(weights)
    if len(weights) != count:
        raise ValueError(f"weights: {len(weights)} given for {count} rankings")
    for weight in weights:
        if weight < 0:
            raise ValueError(f"weights: {weight} is negative")
    return weights


def parts(weights: Sequence[float] | None, count: int) -> list[float]:
    """Weights of `count` rankings that add up to 1.

    Raises
    ------
    ValueError
        As `checked`, or if all are zero.
    """
    given = checked(weights, count)
    total = sum(given)
    if total <= 0:
        raise ValueError("weights: all are zero; at least one must be positive")
    return [weight / total for weight in given]


def scaled(scores: Scores) -> NDArray[np.float64]:
    """Scores of a list from 0, its last, to 1, its best; all 1 where they are equal: (n,) float64."""
    values = scores.astype(np.float64)
    low, high = (values.min(), values.max()) if len(values) else (0.0, 0.0)
    return np.asarray((values - low) / (high - low) if high > low else np.ones(len(values)))


def pour(rankings: Sequence[Ids], given: Sequence[NDArray[np.float64]], weights: Sequence[float]) -> Fused:
    """A ranking by the sums of what each branch gives to each of its chunks.

    Parameters
    ----------
    rankings : sequence of (n_i,) int arrays, best first
    given : sequence of (n_i,) float64 arrays, what each chunk of a ranking gains from it
    weights : sequence of float
        A chunk that only rankings of weight 0 hold is left out. Ties go to what ranks higher in a ranking that
        counts, where nothing was gained, and to the smaller chunk id.
    """
    counting = [np.asarray(r, np.int64) for r, weight in zip(rankings, weights, strict=True) if weight > 0]
    chunks = np.unique(np.concatenate(counting or [np.empty(0, np.int64)]))
    shares = np.zeros((len(chunks), len(rankings)))
    ranks = np.zeros((len(chunks), len(rankings)), np.int32)
    for column, (ranking, share) in enumerate(zip(rankings, given, strict=True)):
        held, rows = _places(chunks, np.asarray(ranking, np.int64))
        shares[rows, column] = share[held]
        ranks[rows, column] = held + 1
    # Shares are added in the order of their size, so that the order of the branches cannot break a tie.
    scores = np.sort(shares, axis=1).sum(axis=1)
    order = np.lexsort((chunks, _ranks_of_nothing(scores, ranks, weights), -scores))
    return Fused(
        chunks[order].astype(np.int64),
        scores[order].astype(np.float32),
        ranks[order],
        shares[order].astype(np.float32),
    )


def _places(chunks: Ids, ranking: Ids) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Which places of a ranking are among sorted chunks, and where there."""
    rows = np.searchsorted(chunks, ranking)
    held = np.flatnonzero(rows < len(chunks))
    held = held[chunks[rows[held]] == ranking[held]]
    return held, rows[held]


def _ranks_of_nothing(
    scores: NDArray[np.float64], ranks: NDArray[np.int32], weights: Sequence[float]
) -> NDArray[np.int32]:
    """What orders chunks that gained nothing: the best rank in a ranking that counts; 0 for all others."""
    found = np.zeros(len(scores), np.int32)
    empty = np.flatnonzero(scores <= 0)
    if len(empty):
        last = np.iinfo(np.int32).max
        counted = np.where((ranks[empty] > 0) & (np.asarray(weights) > 0), ranks[empty], last)
        found[empty] = counted.min(axis=1, initial=last)
    return found
