"""Exact nearest neighbours: every vector is compared."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.ranking import Ids, Scores, best

KIND = "vectors"


def exact_search(
    vectors: NDArray[np.float32], questions: NDArray[np.float32], depth: int
) -> list[tuple[Ids, Scores]]:
    """Rank all chunks for each question by cosine.

    Parameters
    ----------
    vectors : (n, d) float32 array
        Unit vectors of the chunks; may be mapped from disk.
    questions : (q, d) float32 array
        Unit vectors of the questions.
    depth : int
        Chunks to return; always min(depth, n) of them, however far away they are.

    Returns
    -------
    list of q pairs
        Chunks (int64, best first) and cosines (float32, from -1 to 1, larger is better).

    Raises
    ------
    ValueError
        If the dimensions differ.
    """
    if vectors.shape[1:] != questions.shape[1:]:
        raise ValueError(f"vectors have {vectors.shape[1]} dimensions, questions {questions.shape[1]}")
    return [best(np.asarray(vectors @ question), depth) for question in questions]
