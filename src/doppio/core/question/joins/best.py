"""Every chunk by the best score that it has for any wording."""

from collections.abc import Sequence

import numpy as np

from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings
from doppio.core.ranking import best_of


class Best:
    """A union. Scores of terms grow with the words that are asked, so that long wordings come first there."""

    name, title, order = "best", "union, best score", 2
    settings: tuple[Setting, ...] = ()

    def joined(self, rankings: Sequence[Ranking], settings: Settings) -> Ranking:
        chunks = np.concatenate([ids for ids, _ in rankings])
        scores = np.concatenate([found for _, found in rankings]).astype(np.float64)
        distinct, of = np.unique(chunks, return_inverse=True)
        best = np.full(len(distinct), -np.inf)
        np.maximum.at(best, of.ravel(), scores)
        return best_of([(distinct, best)], len(distinct))


KIND = Best()
