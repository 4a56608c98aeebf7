"""Imports, and housekeeping of the job queue."""

from procrastinate.contrib.django import app
from procrastinate.manager import JobManager

from doppio.core.errors import DoppioError
from doppio.indexing.imports import run
from doppio.indexing.jobs import JobProgress, run_in_thread
from doppio.indexing.models import Import, Job
from doppio.indexing.services import compact

# A worker says so often that it lives, and is taken for dead when it has been silent for so long; in seconds.
BEAT, SILENT_FOR = 3.0, 15.0


async def take_over(manager: JobManager, silent_for: float) -> None:
    """Queue the jobs again whose worker has been silent for so many seconds."""
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=silent_for):
        await manager.retry_job(job)


@app.task(name="import", queue="imports", lock="imports")
def import_task(job: int) -> None:
    """Read the files of an import, one import at a time."""
    run_in_thread(job, _import)


def _import(job: Job, progress: JobProgress) -> str:
    brought_in = Import.objects.filter(pk=job.details["import"]).select_related("workspace").first()
    if brought_in is None:
        raise DoppioError("The files of this import have been removed.")
    return run(brought_in, progress)


@app.task(name="compact", queue="upkeep", lock="trials", queueing_lock="compact")
def compact_task() -> None:
    """Merge segments where there are too many, and delete what no reading list is made of any more."""
    compact()
