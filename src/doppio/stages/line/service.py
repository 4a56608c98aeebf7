"""The line: for every stage its facts, how many answers are in play there, and how many were lost."""

from typing import Any

import numpy as np
from django.db.models import Count, Sum

from doppio.core.branches.kind import kind_of
from doppio.core.errors import ArtifactDamaged
from doppio.core.fusion.kind import METHODS
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import DELIVERED, RIGHTLY_EMPTY, WRONGLY_FILLED
from doppio.core.recipe.recipe import Recipe
from doppio.jobs.models import Job
from doppio.jobs.serializers import JobSerializer
from doppio.library.models import Workspace
from doppio.recipes.builds import chunk_table, chunking_of, indexes_of, is_built
from doppio.recipes.models import RecipeVersion
from doppio.recipes.queueing import newest_job
from doppio.recipes.serializers import RecipeSerializer
from doppio.recipes.services import core_recipe, stage_kinds
from doppio.trials.models import TrialRecord
from doppio.trials.services import last_trial, latest_trial


def line(workspace: Workspace, recipe: RecipeVersion) -> dict[str, Any]:
    """All that the top of the screen shows."""
    core = core_recipe(recipe)
    built = is_built(workspace, core)
    job = newest_job(workspace, "trial", recipe)
    trial = latest_trial(recipe)
    # Until the present documents are measured, the last figures stand, and say of what they are.
    shown_trial = trial or last_trial(recipe)
    # What went wrong is shown until something is measured.
    wrong = (Job.FAILED, Job.CANCELLED) if trial is None else ()
    shown = job if job is not None and job.state in (Job.QUEUED, Job.RUNNING, *wrong) else None
    delivered = int(shown_trial.ledger[DELIVERED]) if shown_trial else None
    low, high = wilson(delivered, shown_trial.answerable) if shown_trial and delivered is not None else (None, None)
    earlier = shown_trial if trial is None else None
    return {
        "recipe": RecipeSerializer(recipe).data,
        "built": built,
        "trial": trial.pk if trial else None,
        "earlier": {"documents": earlier.documents, "measured_at": earlier.measured_at} if earlier else None,
        "job": JobSerializer(shown).data if shown else None,
        "answerable": shown_trial.answerable
        if shown_trial
        else workspace.questions.filter(set__measured=True, spans__lost=False, spans__grade__gt=0).distinct().count(),
        "questions": workspace.questions.count(),
        "delivered": delivered,
        "low": low,
        "high": high,
        "stages": _stages(workspace, core, shown_trial, built),
    }


def _stages(workspace: Workspace, recipe: Recipe, trial: TrialRecord | None, built: bool) -> list[dict[str, Any]]:
    levels = trial.levels if trial else {}
    corpus = workspace.documents.aggregate(documents=Count("pk"), words=Sum("words", default=0))
    facts: dict[str, list[str]] = {
        "documents": [_counted(corpus["documents"], "document"), f"{corpus['words']:,} words"]
    }
    chunking = chunking_of(workspace, recipe) if built else None
    if chunking is not None:
        facts["chunks"] = _chunk_facts(workspace, recipe)
    named = stage_kinds(recipe)
    kinds = {branch["id"]: named[branch["id"]] for branch in recipe.branches}
    own = indexes_of(workspace, recipe) if chunking else {}
    for branch in recipe.branches:
        built_facts = [row.meta for row in own.get(branch["id"], [])]
        facts[branch["id"]] = kind_of(branch).facts(branch, built_facts)
    fusion = METHODS.get(recipe.fusion["method"]).title
    weights = " : ".join(f"{recipe.fusion['weights'][branch['id']]:g}" for branch in recipe.branches)
    facts["fused"] = [fusion, f"weights {weights}" if len(recipe.branches) > 1 else "one branch"]
    if recipe.rerank:
        floor = recipe.rerank["floor"]
        facts["reranked"] = [
            f"{recipe.rerank['shortlist']} in, {recipe.select['k']} out",
            "no floor" if floor is None else f"floor {floor:g}",
        ]
    facts["context"] = [f"up to {recipe.select['k']} chunks", f"{recipe.select['budget_tokens']:,} tokens"]
    together = None
    if trial:
        rows = trial.rows.exclude(cause__in=(RIGHTLY_EMPTY, WRONGLY_FILLED)).values_list("in_play", flat=True)
        together = sum(any(row.get(branch) for branch in kinds) for row in rows)
    return list(_with_losses(recipe, levels, facts, kinds, together))


def _chunk_facts(workspace: Workspace, recipe: Recipe) -> list[str]:
    try:
        table = chunk_table(workspace, recipe)
    except ArtifactDamaged:
        # The line still leads to the stages, which say what is wrong and how to mend it.
        return ["damaged on disk"]
    return [f"{len(table):,} chunks", f"median {np.median(table.tokens):.0f} tokens"]


def _with_losses(
    recipe: Recipe,
    levels: dict[str, int],
    facts: dict[str, list[str]],
    kinds: dict[str, str],
    together: int | None,
) -> Any:
    """Stages in order; fused and what follows lose against all branches together, a branch against the chunks."""
    before = None
    for stage in ("documents", "chunks", *recipe.stages):
        level = levels.get(stage)
        reference = levels.get("chunks") if stage in kinds else together if stage == "fused" else before
        lost = reference - level if level is not None and reference is not None else None
        yield {
            "stage": stage,
            "kind": kinds.get(stage, stage),
            "in_play": level,
            "lost": lost,
            "facts": facts.get(stage, []),
        }
        before = level


def _counted(count: int, noun: str) -> str:
    return f"{count:,} {noun}{'' if count == 1 else 's'}"
