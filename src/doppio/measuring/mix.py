"""How recall follows the mix of two branches, measured on the rankings of a trial."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from doppio.core.fusion import Fused, reciprocal_rank_fusion, scaled_score_fusion
from doppio.core.measure.relevance import Relevance
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
        by_ranks = [
            _relevant(_ranks(stages, weights, rrf_k), r) for stages, r in zip(rankings, relevances, strict=True)
        ]
        by_scores = [_relevant(_scores(stages, weights), r) for stages, r in zip(rankings, relevances, strict=True)]
        points.append(
            {
                "dense": share,
                "ranks": _recall(by_ranks, k),
                "scores": _recall(by_scores, k),
                "rank_by_ranks": _first(by_ranks[0]) if len(traces) == 1 else None,
                "rank_by_scores": _first(by_scores[0]) if len(traces) == 1 else None,
            }
        )
    return points


def _ranks(stages: Sequence[StageTrace], weights: Sequence[float], rrf_k: float) -> Fused:
    return reciprocal_rank_fusion([stage.chunks for stage in stages], k=rrf_k, weights=weights)


def _scores(stages: Sequence[StageTrace], weights: Sequence[float]) -> Fused:
    return scaled_score_fusion([(stage.chunks, stage.scores) for stage in stages], weights=weights)


def _relevant(fused: Fused, relevance: Relevance) -> np.ndarray:
    """A chunk without any weight behind it is not in the ranking."""
    return relevance.matrix(fused.chunks[fused.scores > 0])


def _recall(matrices: Sequence[np.ndarray], k: int) -> float:
    return float(np.mean([matrix[:, :k].any(axis=1).mean() for matrix in matrices])) if matrices else 0.0


def _first(matrix: np.ndarray) -> int | None:
    places = matrix.any(axis=0).nonzero()[0]
    return int(places[0]) + 1 if len(places) else None
