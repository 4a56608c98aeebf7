"""Trials, for the worker."""

from procrastinate.contrib.django import app

from doppio.jobs.models import Job
from doppio.jobs.running import JobProgress, run_in_thread
from doppio.recipes.queueing import recipe_of
from doppio.trials import sweeps
from doppio.trials.pools import fill_pool
from doppio.trials.services import measure_recipe


@app.task(name="trial", queue="trials", lock="trials")
def trial_task(job: int) -> None:
    """Build and measure the recipe of a job; one at a time, since a build uses all cores."""
    run_in_thread(job, _trial)


@app.task(name="pool", queue="trials", lock="trials")
def pool_task(job: int) -> None:
    """Ask the recipes of a pool, and keep the passages that they found."""
    run_in_thread(job, _pool)


@app.task(name="sweep", queue="trials", lock="trials")
def sweep_task(job: int) -> None:
    """Try settings of a recipe; what it builds nobody keeps, so no other build may run beside it."""
    run_in_thread(job, _sweep)


def _sweep(job: Job, progress: JobProgress) -> str:
    sweep = sweeps.run(job, progress)
    found = sweep.found
    return f"{sweep.rows.count()} settings tried: {sweep.figure} {found['honest']:.3f} judged by folds."


def _pool(job: Job, progress: JobProgress) -> str:
    pool = fill_pool(job, progress)
    return f"{pool.items.count()} passages to judge."


def _trial(job: Job, progress: JobProgress) -> str:
    record = measure_recipe(recipe_of(job), progress, job)
    return f"{record.ledger['delivered']} of {record.answerable} answerable questions delivered."
