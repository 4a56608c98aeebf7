"""A shortlist in a new order, and what falls under the floor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.joint import JointScorer, Passage
from doppio.core.ranking import Ids, Scores


@dataclass(frozen=True)
class Reranked:
    """The shortlist by joint score.

    chunks : (n,) int64, best first
    scores : (n,) float32, larger is better
    before : (n,) int64, rank in the shortlist, from 1
    above_floor : (n,) bool
    """

    chunks: Ids
    scores: Scores
    before: NDArray[np.int64]
    above_floor: NDArray[np.bool_]


def rerank(scorer: JointScorer, question: str, chunks: Ids, texts: Sequence[str], floor: float | None) -> Reranked:
    """Order a shortlist by the joint score of question and passage.

    Parameters
    ----------
    scorer : JointScorer
    question : str
    chunks : (n,) int64 array
        The shortlist, best first.
    texts : sequence of n str
    floor : float or None
        Chunks that score below it are marked as under the floor; they stay in the list for people to see.

    Notes
    -----
    Ties keep the order of the shortlist.
    """
    scores = scorer.score(question, [Passage(text, int(chunk)) for chunk, text in zip(chunks, texts, strict=True)])
    order = np.argsort(-scores, kind="stable")
    above = np.ones(len(order), bool) if floor is None else scores[order] >= floor
    return Reranked(chunks[order], scores[order], order.astype(np.int64) + 1, above)
