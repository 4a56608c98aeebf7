"""Measurements of single stages, for the worker."""

from procrastinate.contrib.django import app

from doppio.jobs.models import Job
from doppio.jobs.running import JobProgress, run_in_thread
from doppio.recipes.queueing import recipe_of
from doppio.stages.dense.service import survey_recipe
from doppio.stages.reranked.service import measure_depths


@app.task(name="survey", queue="surveys", lock="trials")
def survey_task(job: int) -> None:
    """Measure structures on the vectors of a recipe; never beside a build, which would spoil the figures."""
    run_in_thread(job, _survey)


def _survey(job: Job, progress: JobProgress) -> str:
    found = survey_recipe(recipe_of(job), progress, job.details.get("branch", ""))
    return f"{len(found.points)} structures and settings measured on {found.questions} questions."


@app.task(name="depth", queue="surveys", lock="trials")
def depth_task(job: int) -> None:
    """Measure recall and time by the depth of the shortlist; never beside a build, which would spoil the times."""
    run_in_thread(job, _depths)


def _depths(job: Job, progress: JobProgress) -> str:
    found = measure_depths(recipe_of(job), progress)
    return f"{len(found.points)} depths measured on {found.questions} questions."
