"""Speed against exactness of a branch, measured on the index that is there, whatever its kind."""

from typing import Any

from django.contrib.auth.models import User

from doppio.core.branches.kind import DENSE
from doppio.core.errors import DoppioError, RecipeError
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress
from doppio.jobs.models import Job
from doppio.library.models import Workspace
from doppio.questions.services import core_questions
from doppio.recipes.builds import chunking_of, open_pipeline
from doppio.recipes.models import RecipeVersion
from doppio.recipes.queueing import newest_job, queue_job
from doppio.recipes.services import core_recipe
from doppio.stages.asking import chosen_branch, of_family
from doppio.trials.models import Survey

# The name of the task.
SURVEY = "survey"
SURVEYED = 200


def surveyed(pipeline: Pipeline, wanted: str | None) -> Any:
    """The dense branch that is asked for, or the first that can be surveyed.

    Raises
    ------
    RecipeError
        If there is none.
    """
    names = [chosen_branch(pipeline, DENSE, wanted)] if wanted else of_family(pipeline, DENSE)
    found = next((own for name in names if hasattr(own := pipeline.branches[name or ""], "survey")), None)
    if found is None:
        raise RecipeError("branches: this recipe has no dense branch that can be measured")
    return found


def survey_stage(workspace: Workspace, pipeline: Pipeline, wanted: str | None) -> dict[str, Any]:
    """What was measured of a branch, if it was."""
    job = newest_job(workspace, SURVEY)
    key = _key(workspace, pipeline, surveyed(pipeline, wanted))
    found = Survey.objects.filter(workspace=workspace, key=key).first()
    return {
        "points": found.points if found else [],
        "questions": found.questions if found else 0,
        "measured_at": found.measured_at if found else None,
        "job": job,
    }


def start_survey(recipe: RecipeVersion, user: User | None, branch: str = "") -> Job:
    """Queue the measuring of a branch, the first that can be where it is not named; one that waits or runs already is
    returned instead."""
    title = f"Measure structures on the vectors of {recipe.name} v{recipe.version}"
    return queue_job(recipe, user, kind=SURVEY, title=title, branch=branch)


def survey_recipe(recipe: RecipeVersion, progress: Progress, wanted: str = "") -> Survey:
    """Measure a branch of a recipe that has been built, with its labelled questions."""
    workspace = recipe.workspace
    pipeline = open_pipeline(workspace, core_recipe(recipe))
    if pipeline is None:
        raise DoppioError("The recipe is not built for the present documents; run its trial first.")
    branch = surveyed(pipeline, wanted)
    texts = [question.text for question in core_questions(workspace)][:SURVEYED]
    asked = texts or pipeline.texts.texts(range(min(SURVEYED, len(pipeline.chunks))))
    found, _ = Survey.objects.update_or_create(
        workspace=workspace,
        key=_key(workspace, pipeline, branch),
        defaults={
            "points": [point.as_json() for point in branch.survey(asked, progress)],
            "questions": len(asked),
        },
    )
    return found


def _key(workspace: Workspace, pipeline: Pipeline, branch: Any) -> str:
    """What a survey was measured on: the chunks, and what the branch depends on besides."""
    chunking = chunking_of(workspace, pipeline.recipe)
    return f"{chunking.key if chunking else ''} {branch.survey_of}"
