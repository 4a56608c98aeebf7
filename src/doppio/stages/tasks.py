"""Measurements of single stages, for the worker."""

from procrastinate.contrib.django import app

from doppio.jobs.models import Job
from doppio.jobs.running import JobProgress, run_in_thread
from doppio.recipes.queueing import recipe_of
from doppio.stages.dense.measured import survey_recipe
from doppio.stages.fused.fit import fit_mix
from doppio.stages.reranked.fit import fit_recipe
from doppio.stages.reranked.service import measure_depths


@app.task(name="survey", queue="surveys", lock="trials")
def survey_task(job: int) -> None:
    """Measure structures on the vectors of a recipe; never beside a build, which would spoil the figures."""
    run_in_thread(job, _survey)


def _survey(job: Job, progress: JobProgress) -> str:
    found = survey_recipe(recipe_of(job), progress, job.details.get("branch", ""))
    return f"{len(found.points)} settings measured on {found.questions} questions."


@app.task(name="depth", queue="surveys", lock="trials")
def depth_task(job: int) -> None:
    """Measure recall and time by the depth of the shortlist; never beside a build, which would spoil the times."""
    run_in_thread(job, _depths)


@app.task(name="fit", queue="surveys", lock="trials")
def fit_task(job: int) -> None:
    """Fit a scorer to the labels of a workspace."""
    run_in_thread(job, _fit)


@app.task(name="fit-fusion", queue="surveys", lock="trials")
def fit_fusion_task(job: int) -> None:
    """Fit the weights of branches to the labels of a workspace."""
    run_in_thread(job, _fit_fusion)


def _fit_fusion(job: Job, progress: JobProgress) -> str:
    figure = fit_mix(recipe_of(job), progress).points["figures"][0]
    return f"{figure['metric']}: {figure['today']:.3f} today, {figure['honest']:.3f} on questions left out."


def _fit(job: Job, progress: JobProgress) -> str:
    found = fit_recipe(recipe_of(job), job.started_by, progress)
    today, fitted = found.figures["today"]["mrr"], found.figures["fitted"]["mrr"]
    return f"Version {found.version}: mean reciprocal rank {today:.3f} today, {fitted:.3f} on held-out questions."


def _depths(job: Job, progress: JobProgress) -> str:
    found = measure_depths(recipe_of(job), progress)
    return f"{len(found.points)} depths measured on {found.questions} questions."
