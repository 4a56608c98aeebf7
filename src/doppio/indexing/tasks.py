"""Housekeeping of the job queue."""

from procrastinate.contrib.django import app
from procrastinate.job_context import JobContext
from procrastinate.manager import JobManager

SILENT_FOR = 30.0


@app.periodic(cron="* * * * *")
@app.task(name="retry_stalled", queue="housekeeping", queueing_lock="retry_stalled", pass_context=True)
async def retry_stalled(context: JobContext, timestamp: int) -> None:
    """Give the jobs of a worker that died to one that lives."""
    await take_over(context.app.job_manager, SILENT_FOR)


async def take_over(manager: JobManager, silent_for: float) -> None:
    """Queue the jobs again whose worker has been silent for so many seconds."""
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=silent_for):
        await manager.retry_job(job)
