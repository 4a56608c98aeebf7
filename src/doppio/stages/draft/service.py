"""All labelled questions under a draft, as far as a few seconds go; what drafts share is kept between them."""

import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.pouring import Ranking
from doppio.core.measure.ledger import CAUSES, DELIVERED, RIGHTLY_EMPTY, cause, in_play, ledger
from doppio.core.measure.measuring import handed_at, measured_by
from doppio.core.measure.questions import Question
from doppio.core.measure.relevance import Relevance, relevance
from doppio.core.pipeline import Pipeline
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.step import PairsKept
from doppio.core.select.marginal import repeats
from doppio.core.trace import CONTEXT
from doppio.library.models import Workspace
from doppio.questions.services import core_questions, positions
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import pipelines
from doppio.recipes.services import stage_kinds
from doppio.trials.models import TrialRow
from doppio.trials.services import latest_trial

# Seconds that one look at a draft may take; what is left is done by the next.
AT_ONCE = 3.0
MOVED_SHOWN, CORPORA_KEPT, DRAFTS_KEPT = 40, 2, 12
# Settings of branches whose lists stay at hand: each holds a list a question.
RANKINGS_KEPT = 24
# All of the context, whatever its k.
COVERAGE = "coverage@1000"


@dataclass(frozen=True)
class Found:
    """What became of a question under a draft."""

    cause: str
    in_play: dict[str, bool]
    coverage: float | None
    tokens: int
    repeats: float | None


@dataclass
class Held:
    """What drafts over the same documents and labels share; one of them is measured at a time.

    rankings, pairs, relevant : by the chunking; see `Pipeline.rankings` and `Reranker.keeping`
    found : by the recipe, as far as it has been measured
    """

    questions: list[Question]
    lock: threading.Lock = field(default_factory=threading.Lock)
    rankings: dict[str, dict[str, list[Ranking]]] = field(default_factory=dict)
    pairs: dict[str, PairsKept] = field(default_factory=dict)
    relevant: dict[str, list[Relevance]] = field(default_factory=dict)
    found: OrderedDict[str, dict[int, Found]] = field(default_factory=OrderedDict)


class Drafts:
    """What is held for the workspaces that drafts were tried in lately."""

    def __init__(self, kept: int = CORPORA_KEPT) -> None:
        self._kept = kept
        self._lock = threading.Lock()
        self._held: OrderedDict[tuple[int, str, int], Held] = OrderedDict()

    def of(self, workspace: Workspace, corpus: str) -> Held:
        """What is held for a workspace as it is now."""
        key = workspace.pk, corpus, workspace.marked
        with self._lock:
            held = self._held.get(key)
        if held is None:
            held = Held(core_questions(workspace))
        with self._lock:
            held = self._held.setdefault(key, held)
            self._held.move_to_end(key)
            while len(self._held) > self._kept:
                self._held.popitem(last=False)
        return held


drafts = Drafts()


def drafted(recipe: RecipeVersion, draft: Recipe, seconds: float = AT_ONCE) -> dict[str, Any]:
    """All labelled questions under a draft, as far as the seconds go, beside the recipe's own trial.

    Raises
    ------
    NotBuilt
        If something of it would have to be built first.
    """
    begun = time.perf_counter()
    workspace = recipe.workspace
    pipeline = pipelines.get(workspace, draft)
    held = drafts.of(workspace, pipeline.texts.corpus.key)  # type: ignore[attr-defined]
    with held.lock:
        found = _measured(held, pipeline, begun + seconds)
    return _body(recipe, draft, held.questions, found, time.perf_counter() - begun)


def _measured(held: Held, pipeline: Pipeline, until: float) -> dict[int, Found]:
    recipe = pipeline.recipe
    cut = fingerprint(recipe.chunking, recipe.encoder)
    found = held.found.setdefault(recipe.fingerprint, {})
    held.found.move_to_end(recipe.fingerprint)
    while len(held.found) > DRAFTS_KEPT:
        held.found.popitem(last=False)
    if len(found) == len(held.questions):
        return found
    known = held.rankings.setdefault(cut, {})
    rankings = pipeline.rankings([one.text for one in held.questions], known, [one.beside for one in held.questions])
    while len(known) > RANKINGS_KEPT:
        known.pop(next(iter(known)))
    if pipeline.reranker is not None:
        kept = held.pairs.setdefault(cut, {})
        pipeline = replace(pipeline, reranker=pipeline.reranker.keeping(kept))
    if cut not in held.relevant:
        places = positions(pipeline)
        held.relevant[cut] = [relevance(pipeline.chunks, places, one) for one in held.questions]
    for row, (question, relevant) in enumerate(zip(held.questions, held.relevant[cut], strict=True)):
        if row in found:
            continue
        trace = pipeline.ask_ranked(question.text, [branch[row] for branch in rankings], question.beside)
        context = trace.stage(CONTEXT)
        coverage = (
            measured_by(COVERAGE, context.passed, relevant.at(context), pipeline.chunks, handed_at(context))
            if question.answerable
            else None
        )
        told = cause(trace, relevant, question.answerable)
        vectors_of = pipeline.vectors_of
        alike = repeats(vectors_of(context.passed.tolist())) if vectors_of and len(context.passed) > 1 else None
        found[row] = Found(told, in_play(trace, relevant), coverage, trace.tokens, alike)
        if time.perf_counter() >= until:
            break
    return found


def _body(
    recipe: RecipeVersion, draft: Recipe, questions: Sequence[Question], found: dict[int, Found], seconds: float
) -> dict[str, Any]:
    known = {question.id: row for row, question in enumerate(questions) if row in found}
    trial = latest_trial(recipe)
    before = (
        {
            row.question.identity: row
            for row in TrialRow.objects.filter(trial=trial, question__identity__in=known)
            .select_related("question")
            .only("question__identity", "question__text", "cause", "in_play", "question_id")
        }
        if trial
        else {}
    )
    both = [(found[row], before.get(name)) for name, row in known.items() if questions[row].answerable]
    own = _levels([now for now, _ in both], draft)
    kept = [was for _, was in both if was is not None]
    stages = [
        {
            "stage": stage,
            "kind": kind,
            "in_play": own[stage],
            "before": sum(bool(was.in_play.get(stage)) for was in kept) if len(kept) == len(both) else None,
        }
        for stage, kind in stage_kinds(draft).items()
        if stage in own
    ]
    # What is worse than it was comes first.
    apart = sorted(
        ((was, found[known[name]].cause) for name, was in before.items() if was.cause != found[known[name]].cause),
        key=lambda one: (_rank(one[1]) < _rank(one[0].cause), _rank(one[1])),
    )
    moved = [
        {"id": was.question_id, "text": was.question.text, "before": was.cause, "now": now} for was, now in apart
    ]
    coverage = [now.coverage for now, _ in both if now.coverage is not None]
    alike = [one.repeats for one in found.values() if one.repeats is not None]
    return {
        "questions": len(questions),
        "measured": len(found),
        "answerable": len(both),
        "seconds": seconds,
        "stages": stages,
        "delivered": sum(now.cause == DELIVERED for now, _ in both),
        "delivered_before": sum(was.cause == DELIVERED for was in kept) if len(kept) == len(both) else None,
        "ledger": ledger(one.cause for one in found.values()),
        "coverage": float(np.mean(coverage)) if coverage else None,
        "repeats": float(np.mean(alike)) if alike else None,
        "tokens": float(np.mean([one.tokens for one in found.values()])) if found else None,
        "moved": moved[:MOVED_SHOWN],
    }


def _levels(rows: Sequence[Found], draft: Recipe) -> dict[str, int]:
    return {stage: sum(bool(row.in_play.get(stage)) for row in rows) for stage in ("chunks", *draft.stages)}


def _rank(cause: str) -> int:
    """Where a cause stands; delivered and rightly empty come first."""
    return 0 if cause in (DELIVERED, RIGHTLY_EMPTY) else 1 + CAUSES.index(cause)
