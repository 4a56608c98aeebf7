"""Jobs whose worker is dead go to another one."""

from procrastinate.manager import JobManager

# A worker says so often that it lives, and is taken for dead when it has been silent for so long; in seconds.
BEAT, SILENT_FOR = 3.0, 15.0


async def take_over(manager: JobManager, silent_for: float) -> None:
    """Queue the jobs again whose worker has been silent for so many seconds."""
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=silent_for):
        await manager.retry_job(job)
