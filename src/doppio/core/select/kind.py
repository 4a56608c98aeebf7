"""What a selection rule is: it decides which of the passages that come so far the assistant gets."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import TOKENIZER, Family, Kind, Settings, number, one_of_kinds, optional, registered, whole
from doppio.core.ranking import Ids, Scores
from doppio.core.select.answer.kind import ANSWERS
from doppio.core.select.answer.kind import NONE as UNANSWERED
from doppio.core.select.diversity.kind import DIVERSITY
from doppio.core.select.diversity.kind import NONE as BY_SCORE
from doppio.core.select.orders.kind import BEST_FIRST, ORDERS
from doppio.core.select.versions.kind import NONE as EVERY
from doppio.core.select.versions.kind import VERSIONS
from doppio.core.select.widening.kind import NONE as AS_FOUND
from doppio.core.select.widening.kind import WIDENING
from doppio.core.select.writing import TEMPLATE


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


POOL = whole(
    "pool",
    "Looked at, for versions and variety",
    1,
    200,
    20,
    help="chunks among which versions and repeats are found",
)
COMMON = (
    whole("k", "At most, in chunks", 1, 100, 5),
    whole("budget_tokens", "Budget, in tokens", 1, 1_000_000, 1500),
    optional(
        registered(
            "tokenizer",
            "Of the tokenizer",
            TOKENIZER,
            help="that counts the budget, as `./doppio model add-tokenizer` registered it; empty: the encoder's",
        )
    ),
    optional(
        number("empty_below", "Empty below", 0, 1, help="probability that anything answers; empty: never left empty")
    ),
    one_of_kinds("versions", "Versions of a text", VERSIONS.name, EVERY),
    one_of_kinds("diversity", "Chosen", DIVERSITY.name, BY_SCORE),
    POOL,
    one_of_kinds("widening", "Handed on", WIDENING.name, AS_FOUND),
    one_of_kinds("order", "Written", ORDERS.name, BEST_FIRST),
    one_of_kinds("answer", "Answered", ANSWERS.name, UNANSWERED),
    TEMPLATE,
)
SELECTION: Family[SelectionRule] = Family("selection", "doppio.core.select", SelectionRule, key="rule", common=COMMON)


def looked_at(settings: Settings) -> int:
    """How many groups of passages a step of `select` looks at: k, or the pool where something is chosen from it."""
    chooses = (
        DIVERSITY.get(settings["diversity"]["kind"]).chooses or VERSIONS.get(settings["versions"]["kind"]).chooses
    )
    return int(max(settings["k"], settings["pool"])) if chooses else int(settings["k"])
