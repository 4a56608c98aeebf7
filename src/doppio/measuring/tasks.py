"""Work for the job worker."""

from procrastinate.contrib.django import app

from doppio.asking.models import RecipeVersion
from doppio.core.errors import DoppioError
from doppio.indexing.jobs import JobProgress, run_in_thread
from doppio.indexing.models import Job
from doppio.measuring.reranking import measure_depths
from doppio.measuring.services import measure_recipe, survey_recipe


@app.task(name="trial", queue="trials", lock="trials")
def trial_task(job: int) -> None:
    """Build and measure the recipe of a job; one at a time, since a build uses all cores."""
    run_in_thread(job, _trial)


def _trial(job: Job, progress: JobProgress) -> str:
    record = measure_recipe(_recipe(job), progress, job)
    return f"{record.ledger['delivered']} of {record.answerable} answerable questions delivered."


@app.task(name="survey", queue="surveys", lock="trials")
def survey_task(job: int) -> None:
    """Measure structures on the vectors of a recipe; never beside a build, which would spoil the figures."""
    run_in_thread(job, _survey)


def _survey(job: Job, progress: JobProgress) -> str:
    found = survey_recipe(_recipe(job), progress)
    return f"{len(found.points)} structures and settings measured on {found.questions} questions."


@app.task(name="depth", queue="surveys", lock="trials")
def depth_task(job: int) -> None:
    """Measure recall and time by the depth of the shortlist; never beside a build, which would spoil the times."""
    run_in_thread(job, _depths)


def _depths(job: Job, progress: JobProgress) -> str:
    found = measure_depths(_recipe(job), progress)
    return f"{len(found.points)} depths measured on {found.questions} questions."


def _recipe(job: Job) -> RecipeVersion:
    recipe = RecipeVersion.objects.filter(pk=job.details["recipe"]).select_related("workspace").first()
    if recipe is None:
        raise DoppioError("The recipe of this job has been removed.")
    return recipe
