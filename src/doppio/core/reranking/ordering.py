"""A shortlist in a new order, and what falls under the floor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.joint import JointScorer, Passage, Scored, Window
from doppio.core.models.scorer_folder import Calibration
from doppio.core.ranking import Ids, Scores

PROBABILITY = "probability that the passage answers, 0 to 1"


@dataclass(frozen=True)
class Reranked:
    """The shortlist in its new order.

    chunks : (n,) int64, best first
    scores : (n,) float32, larger is better: a probability where the scorer is calibrated
    raw : (n,) float32, what the scorer gave
    before : (n,) int64, rank in the shortlist, from 1
    above_floor : (n,) bool
    windows : n ranges of characters, the part of a text that was read; None where all of it was
    """

    chunks: Ids
    scores: Scores
    raw: Scores
    before: NDArray[np.int64]
    above_floor: NDArray[np.bool_]
    windows: tuple[Window | None, ...]


def rerank(
    scorer: JointScorer,
    question: str,
    chunks: Ids,
    texts: Sequence[str],
    *,
    first_stage: Scores,
    floor: float | None = None,
    blend: float | None = None,
) -> Reranked:
    """Order a shortlist by the joint score of question and passage.

    Parameters
    ----------
    scorer : JointScorer
    question : str
    chunks : (n,) int64 array
        The shortlist, best first.
    texts : sequence of n str
    first_stage : (n,) float32 array
        Scores that the shortlist came with.
    floor : float or None
        Chunks that score below it are marked as under the floor; they stay in the list for people to see.
    blend : float or None
        Share of the first stage's standardised score; the scorer's own where it is None.

    Notes
    -----
    Ties keep the order of the shortlist.
    """
    passages = [Passage(text, int(chunk)) for chunk, text in zip(chunks, texts, strict=True)]
    found = scorer.score(question, passages)
    return ordered(found, scorer.calibration, chunks, first_stage, scorer.blend if blend is None else blend, floor)


def ordered(
    found: Scored,
    calibration: Calibration | None,
    chunks: Ids,
    first_stage: Scores,
    blend: float,
    floor: float | None = None,
) -> Reranked:
    """Order passages that were scored; parameters are those of `rerank`."""
    blended = blended_scores(found.scores, first_stage, blend)
    order = np.argsort(-blended, kind="stable")
    shown = calibration.probability(blended) if calibration else blended
    above = np.ones(len(order), bool) if floor is None else shown[order] >= floor
    windows = tuple(found.windows[row] for row in order)
    return Reranked(chunks[order], shown[order], found.scores[order], order.astype(np.int64) + 1, above, windows)


def blended_scores(raw: Scores, first_stage: Scores, blend: float) -> Scores:
    """Raw scores plus a share of the first stage's.

    Notes
    -----
    raw + blend x s(raw) x (first - mean(first)) / s(first), s being the standard deviation over the shortlist: the
    first stage is brought to the spread of the joint scores, so that one share means the same for every scorer. Where
    either has no spread nothing is added.
    """
    if not blend or not len(raw):
        return raw
    spread, joint = float(np.std(first_stage, dtype=np.float64)), float(np.std(raw, dtype=np.float64))
    if spread <= 0 or joint <= 0:
        return raw
    standardised = (first_stage.astype(np.float64) - float(np.mean(first_stage, dtype=np.float64))) / spread
    return (raw + blend * joint * standardised).astype(np.float32)
