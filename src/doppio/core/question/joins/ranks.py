"""Reciprocal ranks over the wordings (Cormack, Clarke, Buettcher, SIGIR 2009); scores keep their scale."""

from collections.abc import Sequence

import numpy as np

from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, number, whole
from doppio.core.ranking import best_of


class ByRanks:
    """The order is by ranks; the chunk at each place then has the score that is best at that place over all wordings.

    So a floor and a fusion by scores mean what they meant, and no wording counts for more because it is longer.
    """

    name, title, order = "ranks", "fusion of ranks", 1
    settings: tuple[Setting, ...] = (
        number("others", "Weight of other wordings", 0, 10, 0.5, help="that of the question as it was asked is 1"),
        whole("constant", "Constant", 0, 10_000, 60, help="larger counts lower ranks for more"),
    )

    def joined(self, rankings: Sequence[Ranking], settings: Settings) -> Ranking:
        chunks = np.concatenate([ids for ids, _ in rankings])
        shares = np.concatenate(
            [
                (1.0 if place == 0 else settings["others"]) / (settings["constant"] + 1 + np.arange(len(ids)))
                for place, (ids, _) in enumerate(rankings)
            ]
        )
        distinct, of = np.unique(chunks, return_inverse=True)
        summed = np.bincount(of.ravel(), weights=shares, minlength=len(distinct)).astype(np.float64)
        order, _ = best_of([(distinct, summed)], len(distinct))
        every = np.full((len(rankings), len(distinct)), -np.inf, np.float32)
        for row, (_, scores) in enumerate(rankings):
            every[row, : len(scores)] = scores
        # Nobody's score at a place below all lists: the least there is.
        levels = every.max(axis=0, initial=-np.inf)
        low = min((float(scores.min()) for _, scores in rankings if len(scores)), default=0.0)
        return order, np.maximum.accumulate(np.where(np.isfinite(levels), levels, low)[::-1])[::-1].astype(np.float32)


KIND = ByRanks()
