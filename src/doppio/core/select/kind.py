"""What a selection rule is: it decides which of the passages that come so far the assistant gets."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind, Settings, number, optional, whole
from doppio.core.ranking import Ids, Scores


@dataclass(frozen=True)
class Passages:
    """Passages, best first.

    chunks : (n,) int64
    scores : (n,) float32, larger is better
    tokens : (n,) int64, of what each hands on
    groups : (n,) int64; passages of one group hand on the same text, which is paid for once
    texts : gives what each hands on, where a rule reads it
    """

    chunks: Ids
    scores: Scores
    tokens: NDArray[np.int64]
    groups: NDArray[np.int64]
    texts: Callable[[], list[str]]


class SelectionRule(Kind, Protocol):
    """A rule; its module holds one as `KIND`."""

    def take(self, passages: Passages, settings: Settings) -> NDArray[np.bool_]:
        """Which passages are taken, (n,) bool; `settings` is the recipe's `select`, whose budget is never exceeded.

        No more than the first k groups come here.
        """


COMMON = (
    whole("k", "At most, in chunks", 1, 100, 5),
    whole("budget_tokens", "Budget, in tokens", 1, 1_000_000, 1500),
    optional(
        number("empty_below", "Empty below", 0, 1, help="probability that anything answers; empty: never left empty")
    ),
)
SELECTION: Family[SelectionRule] = Family("selection", "doppio.core.select", SelectionRule, key="rule", common=COMMON)
