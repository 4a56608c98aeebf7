"""Reading the files of an import, for the worker."""

from procrastinate.contrib.django import app

from doppio.core.errors import DoppioError
from doppio.imports.models import Import
from doppio.imports.services import run
from doppio.jobs.models import Job
from doppio.jobs.running import JobProgress, run_in_thread


@app.task(name="import", queue="imports", lock="imports")
def import_task(job: int) -> None:
    """Read the files of an import, one import at a time."""
    run_in_thread(job, _import)


def _import(job: Job, progress: JobProgress) -> str:
    brought_in = Import.objects.filter(pk=job.details["import"]).select_related("workspace").first()
    if brought_in is None:
        raise DoppioError("The files of this import have been removed.")
    return run(brought_in, progress)
