"""How likely it is that any passage of the corpus answers a question: from the shortlist as a whole."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

# What stands for a passage that is not there, in log-odds.
NOBODY = -8.0
FACTS = ("best", "second", "all", "unfound")


def facts_of(logits: NDArray[np.float64], unfound: float) -> NDArray[np.float64]:
    """What is known of a question's shortlist: (4,) float64, in the order of `FACTS`.

    Parameters
    ----------
    logits : (n,) float64 array
        Log-odds that each passage answers, by its own scores.
    unfound : float
        The share of the question's terms that no passage of the corpus holds, weighted by their rarity, 0 to 1.

    Notes
    -----
    "best" and "second" are the two highest log-odds, "all" is the logarithm of the summed odds.
    """
    highest = np.sort(np.append(logits, [NOBODY, NOBODY]))[::-1]
    together = highest[0] + np.log(np.exp(highest - highest[0]).sum())
    return np.array([highest[0], highest[1], together, unfound])


@dataclass(frozen=True)
class Answerable:
    """A logistic model over `facts_of`, fitted on questions of which some had their answers taken out."""

    weights: NDArray[np.float64]
    offset: float

    def probability(self, logits: NDArray[np.float64], unfound: float) -> float:
        """That any passage answers, 0 to 1."""
        logit = float(self.weights @ facts_of(logits, unfound)) + self.offset
        return float(1 / (1 + np.exp(-np.clip(logit, -60, 60))))

    def to_json(self) -> dict[str, float]:
        return {**dict(zip(FACTS, self.weights.tolist(), strict=True)), "offset": self.offset}

    @classmethod
    def from_json(cls, body: Mapping[str, float]) -> "Answerable":
        """See `to_json`.

        Raises
        ------
        KeyError
            If one is missing; names it.
        """
        return cls(np.array([float(body[name]) for name in FACTS]), float(body["offset"]))
