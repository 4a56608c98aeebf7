"""At which stage was an answer lost? Every question ends in exactly one row."""

from collections.abc import Iterable

from doppio.core.measure.relevance import Relevance
from doppio.core.trace import (
    ANOTHER_VERSION,
    CONTEXT,
    FUSED,
    NO_ANSWER,
    OVER_BUDGET,
    PASSED_OVER,
    RERANKED,
    UNDER_FLOOR,
    StageTrace,
    Trace,
)

DELIVERED = "delivered"
CUT = "cut by chunking"
MISSED = "missed by every branch"
LOST_IN_FUSION = "lost in fusion"
DROPPED = "dropped by the reranker"
FLOOR = "under the floor"
HELD_EMPTY = "held to have no answer"
CROWDED_OUT = "passed over for what is new"
BUDGET = "over the context budget"
RIGHTLY_EMPTY = "rightly empty"
WRONGLY_FILLED = "wrongly filled"
CAUSES = (
    DELIVERED,
    CUT,
    MISSED,
    LOST_IN_FUSION,
    DROPPED,
    FLOOR,
    HELD_EMPTY,
    CROWDED_OUT,
    BUDGET,
    RIGHTLY_EMPTY,
    WRONGLY_FILLED,
)
CHUNKS = "chunks"


def in_play(trace: Trace, relevance: Relevance) -> dict[str, bool]:
    """Is the answer still in play after each stage?

    Returns
    -------
    dict
        For "chunks", every branch, "fused", "reranked" (where the recipe has it) and "context": whether a
        chunk relevant to any span of the question goes on from there.
    """
    found = {CHUNKS: any(len(chunks) > 0 for chunks in relevance.chunks)}
    for stage in trace.stages:
        found[stage.stage] = bool(relevance.at(stage).any_of(stage.passed).any())
    return found


def cause(trace: Trace, relevance: Relevance, answerable: bool) -> str:
    """The row of the ledger that a question belongs to: the first stage after which its answer is gone."""
    if not answerable:
        return WRONGLY_FILLED if len(trace.stage(CONTEXT).passed) else RIGHTLY_EMPTY
    still = in_play(trace, relevance)
    if still[CONTEXT]:
        return DELIVERED
    if not still[CHUNKS]:
        return CUT
    if not any(still[branch.stage] for branch in trace.branches):
        return FLOOR if any(_only_the_floor(branch, relevance) for branch in trace.branches) else MISSED
    if not still[FUSED]:
        return FLOOR if _only_the_floor(trace.stage(FUSED), relevance) else LOST_IN_FUSION
    if RERANKED in still and not still[RERANKED]:
        return FLOOR if _only_the_floor(trace.stage(RERANKED), relevance) else DROPPED
    context = trace.stage(CONTEXT)
    if NO_ANSWER in context.reasons:
        return HELD_EMPTY
    met = relevance.at(context).any_of(context.chunks).nonzero()[0].tolist()
    reasons = {context.reasons[place] for place in met}
    # What was chosen and did not fit was lost to the budget, even where another passage was not chosen.
    if OVER_BUDGET in reasons:
        return BUDGET
    if reasons & {PASSED_OVER, ANOTHER_VERSION}:
        return CROWDED_OUT
    # It was looked at and stood too low to be chosen.
    return DROPPED if trace.has(RERANKED) else LOST_IN_FUSION


def ledger(causes: Iterable[str]) -> dict[str, int]:
    """Count questions a cause; every cause is there, and the counts add up to the number of questions."""
    counts = dict.fromkeys(CAUSES, 0)
    for one in causes:
        counts[one] += 1
    return counts


def _only_the_floor(stage: StageTrace, relevance: Relevance) -> bool:
    """Would a relevant chunk have gone on, had there been no floor?"""
    places = relevance.any_of(stage.chunks).nonzero()[0]
    return any(stage.reasons[place] == UNDER_FLOOR for place in places.tolist())
