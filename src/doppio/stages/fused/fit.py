"""Weights of the branches, fitted to the labels of a workspace: as a job, kept for what it saw."""

from dataclasses import asdict
from typing import Any

from django.contrib.auth.models import User

from doppio.core.errors import DoppioError, RecipeError
from doppio.core.fusion.kind import METHODS
from doppio.core.measure.comparing import in_words
from doppio.core.measure.fit_fusion import Asked, fit_fusion
from doppio.core.measure.questions import wording_groups
from doppio.core.measure.relevance import relevance
from doppio.core.progress import Progress
from doppio.jobs.models import Job
from doppio.library.corpus import corpus_of
from doppio.questions.services import core_questions, positions
from doppio.recipes.builds import build
from doppio.recipes.models import RecipeVersion
from doppio.recipes.queueing import newest_job, queue_job
from doppio.recipes.services import core_recipe
from doppio.trials.models import Survey

KIND = "fit-fusion"


def fusion_fit(recipe: RecipeVersion) -> dict[str, Any]:
    """What was fitted, if it was, and the job that fits."""
    space = recipe.workspace
    job = newest_job(space, KIND, recipe)
    found = space.surveys.filter(key=_key(recipe)).first()
    if found is None:
        return {"fit": None, "job": job}
    points = dict(found.points)
    now = {"corpus": corpus_of(space), "marked": space.marked}
    current = {name: points.pop(name) for name in now} == now
    return {"fit": {**points, "current": current, "measured_at": found.measured_at}, "job": job}


def start_fusion_fit(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the fitting; one that waits or runs already is returned instead.

    Raises
    ------
    RecipeError
        If the recipe's method is no sum over branches, or it has one branch.
    """
    core = core_recipe(recipe)
    method = METHODS.get(core.fusion["method"])
    if len(core.branches) < 2:
        raise RecipeError("branches: weights are fitted for two branches or more")
    if not getattr(method, "additive", False):
        raise RecipeError(f"fusion.method: {method.title} is no sum over branches, so no weights are fitted for it")
    return queue_job(recipe, user, kind=KIND, title=f"Fit the mix of {recipe.name} v{recipe.version} to labels")


def fit_mix(recipe: RecipeVersion, progress: Progress) -> Survey:
    """Fit the weights to all labelled questions that are measured, and keep what was found.

    Raises
    ------
    DoppioError
        If there are too few labels.
    """
    space, core = recipe.workspace, core_recipe(recipe)
    now = {"corpus": corpus_of(space), "marked": space.marked}
    pipeline = build(space, core, progress)
    questions = [question for question in core_questions(space) if question.answerable]
    where = positions(pipeline)
    rankings = pipeline.rankings([one.text for one in questions], {}, [one.beside for one in questions])
    asked = [
        Asked(
            pipeline.above_floors([branch[row] for branch in rankings]), relevance(pipeline.chunks, where, question)
        )
        for row, question in enumerate(questions)
    ]
    depth = core.passed_by_fusion
    progress.start("fit", 1, "times")
    try:
        found = fit_fusion(
            [branch["id"] for branch in core.branches],
            asked,
            core.fusion,
            pipeline.chunks,
            list(dict.fromkeys((f"recall@{core.select['k']}", f"recall@{depth}", "mrr"))),
            least=pipeline.least,
            groups=wording_groups(questions),
        )
    except ValueError as error:
        raise DoppioError(f"Nothing was fitted: {error}.") from error
    progress.advance(1)
    figures = [{**asdict(figure), "said": in_words(figure.against, figure.against.p)} for figure in found.figures]
    points = {
        **now,
        "settings": found.settings,
        "method": METHODS.get(found.settings["method"]).title,
        "today": core.fusion["weights"],
        "weights": [asdict(weight) for weight in found.weights],
        "figures": figures,
        "questions": found.questions,
        "told": found.told,
        "same": found.same,
    }
    record, _ = Survey.objects.update_or_create(
        workspace=space, key=_key(recipe), defaults={"points": points, "questions": found.questions}
    )
    return record


def _key(recipe: RecipeVersion) -> str:
    return f"mix of recipe {recipe.pk}"
