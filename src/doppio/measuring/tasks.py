"""Work for the job worker."""

from django.db import connections
from procrastinate.contrib.django import app

from doppio.asking.models import RecipeVersion
from doppio.core.errors import DoppioError
from doppio.indexing.jobs import JobProgress, run_job
from doppio.indexing.models import Job
from doppio.measuring.services import measure_recipe


@app.task(name="trial", queue="trials", lock="trials")
def trial_task(job: int) -> None:
    """Build and measure the recipe of a job; one at a time, since a build uses all cores."""
    try:
        run_job(job, _trial)
    finally:
        # Jobs run in threads of their own; what they opened would stay open with them.
        connections.close_all()


def _trial(job: Job, progress: JobProgress) -> str:
    recipe = RecipeVersion.objects.filter(pk=job.details["recipe"]).select_related("workspace").first()
    if recipe is None:
        raise DoppioError("The recipe of this trial has been removed.")
    record = measure_recipe(recipe, progress, job)
    return f"{record.ledger['delivered']} of {record.answerable} answerable questions delivered."
