"""How recall follows the mix of two branches, measured on the rankings of a trial."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.pouring import Fused
from doppio.core.fusion.reciprocal_rank import reciprocal_rank_fusion
from doppio.core.fusion.scaled_scores import scaled_score_fusion
from doppio.core.measure.relevance import Relevance
from doppio.core.ranking import Ids
from doppio.core.trace import StageTrace, Trace

STEPS = 20


def mix_curve(
    traces: Sequence[Trace],
    relevances: Sequence[Relevance],
    branches: Sequence[str],
    *,
    k: int,
    rrf_k: float,
) -> list[dict[str, Any]]:
    """recall@k of both fusion methods as the weight moves from the first branch to the second.

    For a single trace the rank of its first relevant chunk is told as well.
    """
    rankings = [[trace.stage(branch) for branch in branches] for trace in traces]
    points = []
    for step in range(STEPS + 1):
        share = step / STEPS
        weights = [1 - share, share]
        by_ranks = [_ranks(stages, weights, rrf_k).chunks for stages in rankings]
        by_scores = [_scores(stages, weights).chunks for stages in rankings]
        points.append(
            {
                "dense": share,
                "ranks": _recall(by_ranks, relevances, k),
                "scores": _recall(by_scores, relevances, k),
                "rank_by_ranks": relevances[0].first(by_ranks[0]) if len(traces) == 1 else None,
                "rank_by_scores": relevances[0].first(by_scores[0]) if len(traces) == 1 else None,
            }
        )
    return points


def _ranks(stages: Sequence[StageTrace], weights: Sequence[float], rrf_k: float) -> Fused:
    return reciprocal_rank_fusion([stage.chunks for stage in stages], k=rrf_k, weights=weights)


def _scores(stages: Sequence[StageTrace], weights: Sequence[float]) -> Fused:
    return scaled_score_fusion([(stage.chunks, stage.scores) for stage in stages], weights=weights)


def _recall(rankings: Sequence[Ids], relevances: Sequence[Relevance], k: int) -> float:
    met = [
        relevance.matrix(ranking[:k]).any(axis=1).mean()
        for ranking, relevance in zip(rankings, relevances, strict=True)
    ]
    return float(np.mean(met)) if met else 0.0
