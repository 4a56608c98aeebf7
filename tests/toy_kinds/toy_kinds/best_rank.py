"""A fusion method: a chunk counts for its best rank in any list."""

from collections.abc import Sequence

import numpy as np

from doppio.core.fusion.pouring import Fused, Ranking, checked, pour
from doppio.core.kinds import Setting, Settings, whole


class BestRank:
    name, title = "best-rank", "best rank in any list"
    measure = "weight / rank in the best list"
    settings: tuple[Setting, ...] = (whole("from_rank", "Ranks counted from", 1, 100, 1),)

    def fuse(self, rankings: Sequence[Ranking], weights: Sequence[float], settings: Settings) -> Fused:
        lists = [chunks for chunks, _ in rankings]
        weights = checked(weights, len(lists))
        given = [
            weight / (settings["from_rank"] + np.arange(len(chunks)))
            for chunks, weight in zip(lists, weights, strict=True)
        ]
        best: dict[int, float] = {}
        for chunks, shares in zip(lists, given, strict=True):
            for chunk, share in zip(chunks.tolist(), shares.tolist(), strict=True):
                best[chunk] = max(best.get(chunk, 0.0), share)
        taken: set[int] = set()
        for chunks, shares in zip(lists, given, strict=True):
            for place, chunk in enumerate(chunks.tolist()):
                if shares[place] < best[chunk] or chunk in taken:
                    shares[place] = 0.0
                else:
                    taken.add(chunk)
        return pour(lists, given, weights)


KIND = BestRank()
