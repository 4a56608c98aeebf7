"""How recall and time follow the depth of the shortlist, for one reranker over labelled questions."""

import time
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from doppio.core.measure.relevance import Relevance
from doppio.core.models.joint import Scored
from doppio.core.progress import Progress, Silent
from doppio.core.ranking import Ids
from doppio.core.reranking.step import FirstStage, Reranker
from doppio.core.reranking.windowed import Candidate

DEPTHS = (1, 3, 5, 10, 15, 20, 30, 50)
# Questions that are scored anew at every depth for their time alone.
TIMED = 8


@dataclass(frozen=True)
class Candidates:
    """A question with what a reranker could see: fused chunks, best first, and what they came with."""

    question: str
    relevance: Relevance
    chunks: Ids
    candidates: Sequence[Candidate]
    first: FirstStage


@dataclass(frozen=True)
class DepthPoint:
    """What one depth gives.

    recall : recall@k by k, mean over the questions
    seconds : mean time to score one question's shortlist
    """

    depth: int
    recall: dict[int, float]
    seconds: float


def depths_within(most: int) -> list[int]:
    """The depths to measure where fusion hands on at most so many."""
    return sorted({*(depth for depth in DEPTHS if depth < most), most})


def depth_curve(
    reranker: Reranker,
    asked: Sequence[Candidates],
    depths: Sequence[int],
    cutoffs: Sequence[int],
    *,
    blend: float | None = None,
    progress: Progress | None = None,
) -> list[DepthPoint]:
    """Measure every depth on the same questions.

    Parameters
    ----------
    reranker : Reranker
    asked : sequence of Candidates
        Questions that have an answer.
    depths : sequence of int
        Rising. Beyond the depth the fused order stays.
    cutoffs : sequence of int
        The values of k.
    blend : float or None
        See `Reranker.order`.

    Notes
    -----
    Every pair is scored once for recall. Times are taken apart from that: some questions, evenly drawn, are scored
    again at every depth by the scorer itself, past anything that it keeps.
    """
    progress = progress or Silent()
    progress.start("score shortlists", len(asked), "questions")
    found: list[Sequence[Scored]] = []
    for one in asked:
        found.append(_scored(reranker, one, depths[-1]))
        progress.advance(1)
    timed = [asked[row] for row in np.unique(np.linspace(0, len(asked) - 1, TIMED).astype(int))] if asked else []
    bare = reranker.bare()
    progress.start("time depths", len(depths) * len(timed), "questions")
    points = []
    for depth in depths:
        took = 0.0
        for one in timed:
            begun = time.perf_counter()
            _scored(bare, one, depth)
            took += time.perf_counter() - begun
            progress.advance(1)
        recall = {k: _recall(reranker, asked, found, depth, k, blend) for k in cutoffs}
        points.append(DepthPoint(depth, recall, took / max(len(timed), 1)))
    return points


def _scored(reranker: Reranker, one: Candidates, depth: int) -> Sequence[Scored]:
    branches = {family: scores[:depth] for family, scores in one.first.branches.items()}
    return reranker.score(one.question, one.candidates[:depth], FirstStage(one.first.fused[:depth], branches))


def _recall(
    reranker: Reranker,
    asked: Sequence[Candidates],
    found: Sequence[Sequence[Scored]],
    depth: int,
    k: int,
    blend: float | None,
) -> float:
    """Mean share of spans that have a relevant chunk among the first k."""
    met = []
    for one, scored in zip(asked, found, strict=True):
        cut = [Scored(part.scores[:depth], part.windows[:depth]) for part in scored]
        result = reranker.order(cut, one.chunks[:depth], one.first.fused[:depth], blend=blend)
        ranking = np.concatenate([result.chunks, one.chunks[depth:]])[:k]
        met.append(float(one.relevance.matrix(ranking).any(axis=1).mean()))
    return float(np.mean(met)) if met else 0.0
