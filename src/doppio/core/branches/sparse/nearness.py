"""How near the terms of a question stand to each other in a chunk, as a part that is added to BM25.

Each pair of terms that stand at most five words from each other counts 1 / d^2, every time; these are summed,
saturate as occurrences do, and count by the rarity of the commoner of both.

References
----------
.. [1] Y. Rasolofo, J. Savoy, "Term Proximity Scoring for Keyword-Based Retrieval Systems", ECIR 2003.
"""

from collections.abc import Callable, Sequence

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.text.analysis import Analysis

WINDOW = 5
# Chunks that are looked at for a question, beside as many as are wanted.
LOOKED_AT = 100
# Of which the places of terms stay at hand, for each thread.
CHUNKS_KEPT = 4096
Floats = NDArray[np.float64]
Ids = NDArray[np.int64]


class Placed:
    """Where terms stand in texts; those that were looked at lately are at hand. One for each thread."""

    def __init__(self, analysis: Analysis) -> None:
        self._numbering = analysis.numbering()
        self._kept: dict[int, tuple[Ids, Ids]] = {}

    def of(self, chunks: Sequence[int], read: Callable[[Sequence[int]], list[str]]) -> list[tuple[Ids, Ids]]:
        """Numbers of the terms of chunks, and at which word each stands; `read` gives texts as they are indexed."""
        lacking = [chunk for chunk in chunks if chunk not in self._kept]
        if len(self._kept) + len(lacking) > CHUNKS_KEPT:
            self._kept.clear()
            lacking = list(chunks)
        for chunk, text in zip(lacking, read(lacking) if lacking else (), strict=True):
            numbers, places = self._numbering.placed(text)
            self._kept[chunk] = np.array(numbers, np.int64), np.array(places, np.int64)
        return [self._kept[chunk] for chunk in chunks]

    def numbers(self, terms: Sequence[str]) -> Ids:
        """The number of each term; -1 where no text that was looked at has it."""
        return np.array([self._numbering.vocabulary.get(term, -1) for term in terms], np.int64)


def nearness(
    placed: Sequence[tuple[Ids, Ids]], numbers: Ids, weights: Floats, norms: NDArray[np.float32], k1: float
) -> Floats:
    """What nearness adds to the score of each chunk: (n,) float64, 0 upwards.

    Parameters
    ----------
    placed : n pairs of (m_i,) int64 arrays
        See `Placed.of`.
    numbers, weights : (t,) arrays
        Of the question's terms, each once: the number, and repeats times inverse document frequency.
    norms : (n,) float32 array
        What the length of each makes of k1; see `Weighting.norms`.
    """
    there = (numbers >= 0) & (weights > 0)
    numbers, weights = numbers[there], weights[there]
    order = np.argsort(numbers)
    lengths = [len(own) for own, _ in placed]
    terms = np.concatenate([np.empty(0, np.int64), *(own for own, _ in placed)])
    places = np.concatenate([np.empty(0, np.int64), *(own for _, own in placed)])
    if not len(numbers):
        return np.zeros(len(placed))
    # Of the question's terms alone, each by its place among them.
    at = np.minimum(np.searchsorted(numbers[order], terms), len(numbers) - 1)
    asked = numbers[order][at] == terms
    owner = np.repeat(np.arange(len(placed)), lengths)[asked]
    begins = np.searchsorted(owner, np.arange(len(placed) + 1))
    return near_pairs(begins, order[at[asked]], places[asked], weights, norms.astype(np.float64), k1)


@njit(cache=True, nogil=True)
def near_pairs(
    begins: NDArray[np.int64],
    terms: NDArray[np.int64],
    places: NDArray[np.int64],
    weights: Floats,
    norms: Floats,
    k1: float,
) -> Floats:
    """The formula over all chunks; `terms` and `places` are those of one chunk after another, places rising."""
    many = weights.size
    found = np.zeros(begins.size - 1)
    sums = np.zeros((many, many))
    for chunk in range(found.size):
        sums[:] = 0.0
        for one in range(begins[chunk], begins[chunk + 1]):
            for other in range(one + 1, begins[chunk + 1]):
                apart = places[other] - places[one]
                if apart > WINDOW:
                    break
                if apart == 0 or terms[one] == terms[other]:
                    continue
                low, high = min(terms[one], terms[other]), max(terms[one], terms[other])
                sums[low, high] += 1.0 / (apart * apart)
        for low in range(many):
            for high in range(low + 1, many):
                if sums[low, high] > 0:
                    weight = min(weights[low], weights[high])
                    found[chunk] += weight * sums[low, high] * (k1 + 1.0) / (sums[low, high] + norms[chunk])
    return found
