"""How recall follows the mix of two branches, measured on the rankings of a trial with every fusion method."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from doppio.core.fusion.kind import METHODS, fused_by
from doppio.core.kinds import Settings
from doppio.core.measure.relevance import Relevance
from doppio.core.ranking import Ids
from doppio.core.trace import Trace

STEPS = 20


def mix_curve(
    traces: Sequence[Trace],
    relevances: Sequence[Relevance],
    branches: Sequence[str],
    fusion: Settings,
    *,
    k: int,
    least: Sequence[float | None],
) -> list[dict[str, Any]]:
    """recall@k of the recipe's fusion method and the usual ones as the weight moves from the first branch on.

    The recipe's own method has the settings of `fusion`, the others have their defaults. For a single trace the rank
    of its first relevant chunk is told as well.
    """
    rankings = [[trace.stage(branch) for branch in branches] for trace in traces]
    lists = [[(stage.passed, stage.scores[stage.kept]) for stage in stages] for stages in rankings]
    curves = []
    for method in METHODS:
        if method.name != fusion["method"] and not getattr(method, "usual", False):
            continue
        settings = {one.name: one.default for one in method.settings}
        settings |= fusion if fusion["method"] == method.name else {}
        points = []
        for step in range(STEPS + 1):
            share = step / STEPS
            weights = [1 - share, share]
            fused = [fused_by(method, both, weights, settings, least).chunks for both in lists]
            rank = relevances[0].first(fused[0]) if len(traces) == 1 else None
            points.append({"second": share, "recall": _recall(fused, relevances, k), "rank": rank})
        curves.append({"method": method.name, "title": method.title, "points": points})
    return curves


def _recall(rankings: Sequence[Ids], relevances: Sequence[Relevance], k: int) -> float:
    met = [
        relevance.matrix(ranking[:k]).any(axis=1).mean()
        for ranking, relevance in zip(rankings, relevances, strict=True)
    ]
    return float(np.mean(met)) if met else 0.0
