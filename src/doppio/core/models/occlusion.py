"""Which sentences a joint score rests on."""

from dataclasses import dataclass

import numpy as np

from doppio.core.models.joint import JointScorer, Passage
from doppio.core.text.sentences import sentence_starts

MOST_SENTENCES = 60


@dataclass(frozen=True)
class SentenceDrop:
    """A range of a passage, and by how much the raw score drops without it; below 0 where it rises."""

    start: int
    end: int
    drop: float


def sentence_drops(scorer: JointScorer, question: str, passage: str, line: str = "") -> list[SentenceDrop]:
    """Score a passage without each of its sentences in turn; those after the first sixty are taken together.

    `line` stands before it each time, as title and headings stand before a window.

    References
    ----------
    .. [1] M. Zeiler, R. Fergus, "Visualizing and Understanding Convolutional Networks", ECCV 2014, for leaving
       parts out to see what an output rests on.
    """
    starts = np.unique(np.concatenate([[0], sentence_starts(passage)]))[:MOST_SENTENCES]
    bounds = list(zip(starts.tolist(), [*starts[1:].tolist(), len(passage)], strict=True))
    before = f"{line}\n" if line else ""
    texts = [passage, *(passage[:start] + passage[end:] for start, end in bounds)]
    scores = scorer.score(question, [Passage(before + text) for text in texts]).scores
    return [
        SentenceDrop(start, end, float(scores[0] - score))
        for (start, end), score in zip(bounds, scores[1:].tolist(), strict=True)
    ]
