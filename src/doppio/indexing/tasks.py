"""Housekeeping of the job queue."""

from procrastinate.contrib.django import app
from procrastinate.job_context import JobContext

SILENT_FOR = 30.0


@app.periodic(cron="* * * * *")
@app.task(name="retry_stalled", queue="housekeeping", queueing_lock="retry_stalled", pass_context=True)
async def retry_stalled(context: JobContext, timestamp: int) -> None:
    """Give the jobs of a worker that died to one that lives."""
    manager = context.app.job_manager
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=SILENT_FOR):
        await manager.retry_job(job)
