"""Ranking by BM25, with k1 and b chosen when the question is asked."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.ranking import Ids, Scores, best
from doppio.core.sparse.postings import Postings


@dataclass(frozen=True)
class TermShare:
    """What one term of a question adds to the score of a chunk."""

    term: str
    in_question: int
    in_chunk: int
    chunks_with_term: int
    idf: float
    share: float


def idf(chunks: int, with_term: int) -> float:
    """Inverse document frequency ln(1 + (N - n + 0.5) / (n + 0.5)): never negative."""
    return float(np.log1p((chunks - with_term + 0.5) / (with_term + 0.5)))


def bm25(postings: Postings, terms: Sequence[str], depth: int, *, k1: float, b: float) -> tuple[Ids, Scores]:
    """Rank chunks for the terms of one question.

    Parameters
    ----------
    postings : Postings
    terms : sequence of str
        Analysed as the chunks were; a term that stands twice counts twice.
    depth : int
        The most chunks to return.
    k1 : float
        How slowly repeats of a term stop adding; 0 counts a term once. Not negative.
    b : float
        How much long chunks are held back, from 0 (not) to 1 (fully).

    Returns
    -------
    chunks : (m,) int64 array, best first
    scores : (m,) float32 array, larger is better, without an upper bound

    Notes
    -----
    Only chunks that hold a term are returned, so the list may be empty. Ties keep the order of the chunks.

    References
    ----------
    .. [1] S. Robertson, H. Zaragoza, "The Probabilistic Relevance Framework: BM25 and Beyond",
       Foundations and Trends in Information Retrieval 3(4), 2009. The inverse document frequency is theirs
       with 1 added inside the logarithm.
    """
    total = len(postings.lengths)
    weights, numbers = [], []
    for term, repeats in Counter(terms).items():
        number = postings.vocabulary.get(term)
        if number is not None:
            numbers.append(number)
            with_term = int(postings.begins[number + 1] - postings.begins[number])
            weights.append(repeats * idf(total, with_term))
    if not numbers:
        return np.empty(0, np.int64), np.empty(0, np.float32)
    scores = _accumulate(
        np.asarray(numbers, np.int64),
        np.asarray(weights, np.float32),
        postings.begins,
        postings.chunks,
        postings.counts,
        postings.lengths,
        _norms_mean(postings),
        k1,
        b,
    )
    return best(scores, depth, above=0.0)


def explain(
    postings: Postings, terms: Sequence[str], chunks: Sequence[int], *, k1: float, b: float
) -> list[list[TermShare]]:
    """Share of every term of the question in the score of each chunk; the shares add up to the score."""
    total, mean = len(postings.lengths), _norms_mean(postings)
    rows: list[list[TermShare]] = [[] for _ in chunks]
    for term, repeats in Counter(terms).items():
        holders, counts = postings.of(term)
        weight = idf(total, len(holders))
        places = np.searchsorted(holders, np.asarray(chunks, np.int64))
        for row, (chunk, place) in enumerate(zip(chunks, places.tolist(), strict=True)):
            held = int(counts[place]) if place < len(holders) and holders[place] == chunk else 0
            norm = k1 * (1 - b + b * float(postings.lengths[chunk]) / mean)
            share = repeats * weight * held * (k1 + 1) / (held + norm) if held else 0.0
            rows[row].append(TermShare(term, repeats, held, len(holders), weight, share))
    return rows


def _norms_mean(postings: Postings) -> float:
    return max(float(postings.lengths.mean()), 1.0) if len(postings.lengths) else 1.0


@njit(cache=True, nogil=True, fastmath=True)
def _accumulate(
    numbers: NDArray[np.int64],
    weights: NDArray[np.float32],
    begins: NDArray[np.int64],
    chunks: NDArray[np.int32],
    counts: NDArray[np.int32],
    lengths: NDArray[np.int32],
    mean: float,
    k1: float,
    b: float,
) -> Scores:
    scores = np.zeros(lengths.size, np.float32)
    for place in range(numbers.size):
        weight = weights[place] * np.float32(k1 + 1)
        for at in range(begins[numbers[place]], begins[numbers[place] + 1]):
            chunk = chunks[at]
            count = np.float32(counts[at])
            norm = np.float32(k1 * (1 - b + b * lengths[chunk] / mean))
            scores[chunk] += weight * count / (count + norm)
    return scores
