"""A scorer that is fitted to a workspace's labels: as a job, kept in versions."""

import copy
from collections.abc import Sequence
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from rest_framework.request import Request

from doppio.core.errors import DoppioError, RecipeError
from doppio.core.measure.fit_to_labels import FUSED, Gathered, fit_to_labels
from doppio.core.measure.questions import Question, wording_groups
from doppio.core.measure.relevance import relevance
from doppio.core.models.fitted_folder import FittedFolder
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress
from doppio.core.recipe.check import check
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.facts.kind import FACTS
from doppio.core.reranking.fitted import FittedScorer as Weighing
from doppio.core.reranking.fitted import Known
from doppio.core.reranking.kind import COMMON
from doppio.core.reranking.late_interaction import NAME as LATE
from doppio.core.reranking.step import FirstStage, Reranker
from doppio.jobs.models import Job
from doppio.library.access import person
from doppio.library.models import Workspace
from doppio.questions.services import core_questions, positions
from doppio.recipes.builds import build, models
from doppio.recipes.fitted import keep
from doppio.recipes.models import FittedScorer, RecipeVersion
from doppio.recipes.queueing import newest_job, queue_job
from doppio.recipes.services import core_recipe

FIT = "fit"


def start_fit(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the fitting; one that waits or runs already is returned instead.

    Raises
    ------
    RecipeError
        If the recipe does not rerank, or by a scorer that is fitted already.
    """
    _reranks(core_recipe(recipe))
    return queue_job(recipe, user, kind=FIT, title=f"Fit {recipe.name} v{recipe.version} to labels")


def fit_stage(recipe: RecipeVersion) -> dict[str, Any]:
    """The versions there are, newest first, and the job that makes another."""
    job = newest_job(recipe.workspace, FIT)
    titles = {kind.name: kind.title for kind in FACTS}
    return {
        "versions": [_shown(row, titles) for row in recipe.workspace.fitted_scorers.select_related("recipe")],
        "job": job,
    }


def _shown(row: FittedScorer, titles: dict[str, str]) -> dict[str, Any]:
    weights = [
        {"name": name, "title": titles.get(name, name), "weight": one["weight"], "start": row.figures["start"][name]}
        for name, one in row.body["weights"].items()
    ]
    return {
        "name": row.name,
        "version": row.version,
        "recipe": f"{row.recipe.name} v{row.recipe.version}" if row.recipe else "",
        "made_at": row.made_at,
        "weights": sorted(weights, key=lambda one: -abs(one["weight"])),
        **{name: row.figures[name] for name in ("questions", "answered", "today", "fitted", "p", "better", "worse")},
    }


def fit_recipe(recipe: RecipeVersion, user: User | None, progress: Progress) -> FittedScorer:
    """Fit a scorer to all labelled questions that are measured, and keep it.

    Raises
    ------
    DoppioError
        If there are too few labels, or the recipe does not rerank.
    """
    core = core_recipe(recipe)
    wanted = _with_late_interaction(core)
    pipeline = build(recipe.workspace, wanted, progress)
    known = _known(pipeline)
    begun = _begun_from(core, wanted)
    questions = [question for question in core_questions(recipe.workspace) if question.answerable]
    groups = wording_groups(questions)
    gathered = _gathered(questions, core, pipeline, known, progress)
    progress.start("fit", 1, "times")
    try:
        if begun:
            found = fit_to_labels(known.names, gathered, {}, begun.weights, groups)
        else:
            found = fit_to_labels(known.names, gathered, _today(core, pipeline), groups=groups)
    except ValueError as error:
        raise DoppioError(f"Nothing was fitted: {error}.") from error
    rerank = wanted.rerank or {}
    body = {
        "title": "",
        "scorers": [part.scorer.name for part in known.scorers.parts],
        "facts": list(known.facts),
        "weights": found.weights,
        "window": begun.window if begun else rerank["window"],
        "windows": begun.windows if begun else rerank["windows"],
        "calibration": found.calibration,
    }
    progress.advance(1)
    return keep(recipe, body, {**found.figures, "start": found.start}, user, models)


def _reranks(core: Recipe) -> None:
    if not core.rerank:
        raise RecipeError("rerank: this recipe does not rerank")
    fitted = {folder.name: folder.shipped for folder in models.fitted()}
    own = [fitted[use["scorer"]] for use in core.scorers if use["scorer"] in fitted]
    if not all(own):
        raise RecipeError("rerank: this recipe is fitted already; fit the one that it was fitted on again")
    if own and len(core.scorers) > 1:
        raise RecipeError("rerank: weights that ship stand beside other scorers here; name them alone to fit them")


def _shipped_in(core: Recipe) -> FittedFolder | None:
    """The weights that ship, where a recipe orders by them."""
    named = {use["scorer"] for use in core.scorers}
    return next((folder for folder in models.fitted() if folder.shipped and folder.name in named), None)


def _begun_from(core: Recipe, wanted: Recipe) -> FittedFolder | None:
    """The weights of manuals for a recipe's scorers, as it reads; None where none ship."""
    assert wanted.rerank is not None
    own = _shipped_in(core)
    if own is not None:
        return own
    asked = {use["scorer"] for use in wanted.scorers}
    read = (wanted.rerank["window"], wanted.rerank["windows"])
    for folder in models.fitted():
        reads_so = asked == {LATE} or read == (folder.window, folder.windows)
        if folder.shipped and set(folder.scorers) == asked and reads_so:
            return folder
    return None


def _with_late_interaction(core: Recipe) -> Recipe:
    """The recipe with late interaction among its scorers, whose kept tokens facts are made of too."""
    _reranks(core)
    if _shipped_in(core):
        return core
    body = copy.deepcopy(core.body)
    uses = core.scorers
    if not any(use["scorer"] == LATE for use in uses):
        uses.append({"scorer": LATE, "weight": 0})
    common = {setting.name: body["rerank"][setting.name] for setting in COMMON}
    body["rerank"] = {"scorers": uses, **common}
    return check(body)


def _known(pipeline: Pipeline) -> Known:
    assert pipeline.reranker is not None
    first = pipeline.reranker.parts[0].scorer
    if isinstance(first, Weighing):
        return first.known
    assert pipeline.reranker.late is not None
    return Known(pipeline.reranker, pipeline.reranker.late, tuple(kind.name for kind in FACTS))


def _today(core: Recipe, pipeline: Pipeline) -> dict[str, float]:
    """The share that each scorer and the mix have in today's order."""
    assert pipeline.reranker is not None and core.rerank is not None
    total = sum(use["weight"] for use in core.scorers)
    shares = {use["scorer"]: use["weight"] / total for use in core.scorers}
    return {**shares, FUSED: _blend(core, pipeline.reranker)}


def _blend(core: Recipe, reranker: Reranker) -> float:
    assert core.rerank is not None
    if core.rerank["blend"] is not None:
        return float(core.rerank["blend"])
    own = [part for part in reranker.parts if part.weight]
    return Reranker(tuple(own)).blend


def _gathered(
    questions: Sequence[Question], core: Recipe, pipeline: Pipeline, known: Known, progress: Progress
) -> list[Gathered]:
    """The shortlists of all labelled questions, with what is known of each passage."""
    where = positions(pipeline)
    depth = core.passed_by_fusion
    assert pipeline.reranker is not None
    blend = _blend(core, pipeline.reranker)
    weighed = _shipped_in(core) is not None
    progress.start("score shortlists", len(questions), "questions")
    found = []
    asked = pipeline.fused_many([one.text for one in questions], [one.beside for one in questions])
    for question, (fused, first) in zip(questions, asked, strict=True):
        chunks = fused.chunks[:depth]
        candidates = pipeline.candidates(chunks.tolist(), headed=True)
        branches = {family: scores[:depth] for family, scores in first.branches.items()}
        cut = FirstStage(first.fused[:depth], branches)
        values, said = known.of(question.text, candidates, cut)
        if weighed:
            said = pipeline.reranker.score(question.text, candidates, cut)
        ordered = pipeline.reranker.order(said, np.arange(len(chunks)), cut.fused, blend=blend)
        today = np.empty(len(chunks))
        today[ordered.chunks] = ordered.scores
        right = relevance(pipeline.chunks, where, question).any_of(chunks)
        found.append(Gathered(values, right, today))
        progress.advance(1)
    return found


def own_fitted(request: Request) -> set[str]:
    """Names of the scorers that were fitted in the workspace that a request names, where the person is in it."""
    number = request.query_params.get("workspace", "")
    if not number.isdigit():
        return set()
    spaces = Workspace.objects.filter(pk=number, members=person(request))
    return set(FittedScorer.objects.filter(workspace__in=spaces).values_list("name", flat=True))
