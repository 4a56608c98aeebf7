"""Which passages say most that is both relevant and new? Maximal marginal relevance.

References
----------
.. [1] J. Carbonell, J. Goldstein, "The use of MMR, diversity-based reranking for reordering documents and producing
   summaries", SIGIR 1998.
"""

import numpy as np
from numpy.typing import NDArray

from doppio.core.ranking import Scores


def repeats(vectors: NDArray[np.float32]) -> float:
    """How much passages repeat each other: the mean, over all but the first, of the largest cosine to one before it.

    Parameters
    ----------
    vectors : (n, d) float32 array
        Of passages in the order in which they were chosen.

    Returns
    -------
    float
        0 to 1; 0 where there are fewer than two.
    """
    if len(vectors) < 2:
        return 0.0
    unit = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
    likeness = np.clip(unit @ unit.T, 0, 1)
    return float(np.mean([likeness[row, :row].max() for row in range(1, len(unit))]))


def by_marginal_relevance(
    scores: Scores, likeness: NDArray[np.float32], strength: float, k: int
) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Choose passages one after another, each by its relevance less how much it repeats.

    Parameters
    ----------
    scores : (n,) float array
        Of passages, best first; larger is better.
    likeness : (n, n) float32 array
        0 to 1.
    strength : float
        0 to 1: how much repeating counts beside relevance; 0 keeps the order.
    k : int
        How many are chosen.

    Returns
    -------
    chosen : (min(k, n),) int64 array
        Their places, in the order in which they were chosen.
    repeated : (min(k, n),) float32 array
        How alike each is to the one most like it that was chosen before; 0 for the first.

    Notes
    -----
    Scores of all scales are brought to 0 to 1 over the passages that are given, so that the strength means the same
    behind any scorer. Ties go to the one that stood higher.
    """
    count = len(scores)
    low, high = (float(scores.min()), float(scores.max())) if count else (0.0, 0.0)
    relevance = (scores.astype(np.float64) - low) / (high - low) if high > low else np.ones(count)
    nearest = np.zeros(count)
    left = np.ones(count, bool)
    chosen, repeated = [], []
    for _ in range(min(k, count)):
        worth = np.where(left, (1 - strength) * relevance - strength * nearest, -np.inf)
        best = int(worth.argmax())
        chosen.append(best)
        repeated.append(nearest[best])
        left[best] = False
        nearest = np.maximum(nearest, likeness[best])
    return np.array(chosen, np.int64), np.array(repeated, np.float32)
