"""How a job runs: progress into its record, cancel out of it, and one clear end."""

import errno
import logging
import socket
import time
from collections.abc import Callable

from django.db import InterfaceError, OperationalError, connections, transaction
from django.utils import timezone

from doppio.core.errors import Cancelled, DoppioError
from doppio.jobs.models import Job, MeasuredRate

Clock = Callable[[], float]
EVERY, WORTH_KEEPING = 0.4, 0.2
log = logging.getLogger(__name__)


class JobProgress:
    """Writes a job's progress a few times a second, and learns there that it was cancelled."""

    def __init__(self, job: Job, clock: Clock = time.monotonic) -> None:
        self._job = job
        self._clock = clock
        self._said = self._begun = clock()
        self._pending = 0

    def start(self, step: str, total: int, unit: str) -> None:
        self.finish()
        self._job.step, self._job.total, self._job.unit = step, total, unit
        self._job.done, self._job.rate = 0, 0.0
        self._begun = self._clock()
        self._pending = 0
        self._say()

    def advance(self, count: int) -> None:
        self._pending += count
        if self._clock() - self._said >= EVERY:
            self._say()

    def finish(self) -> None:
        """Keep the rate of a step that ran through, for what builds will be said to cost."""
        job, took = self._job, self._clock() - self._begun
        count = job.done + self._pending
        if job.step and count == job.total and count and took >= WORTH_KEEPING:
            keep_rate(job.step, job.unit, count / took)

    def _say(self) -> None:
        job, now = self._job, self._clock()
        job.done += self._pending
        self._pending = 0
        job.rate = job.done / (now - self._begun) if now > self._begun else 0.0
        self._said = now
        job.save(update_fields=["step", "total", "unit", "done", "rate"])
        if Job.objects.filter(pk=job.pk, cancel_requested=True).exists():
            raise Cancelled("cancelled")


def keep_rate(step: str, unit: str, per_second: float) -> None:
    """Remember how fast a step went."""
    MeasuredRate.objects.update_or_create(step=step, defaults={"unit": unit, "per_second": per_second})


def run_job(number: int, work: Callable[[Job, JobProgress], str], clock: Clock = time.monotonic) -> None:
    """Run the work of a job and record how it ended; a job that has ended already is left alone.

    Parameters
    ----------
    number : int
        Primary key of the job.
    work : callable
        Gets the job and its progress and returns a message for people.
    clock : callable
        Seconds that never run backwards, for rates and for how often progress is written.
    """
    job = Job.objects.filter(pk=number).first()
    if job is None or job.state in (Job.DONE, Job.FAILED, Job.CANCELLED):
        return
    job.state, job.started_at, job.message = Job.RUNNING, timezone.now(), ""
    job.save(update_fields=["state", "started_at", "message"])
    try:
        progress = JobProgress(job, clock)
        message = work(job, progress)
        progress.finish()
        end_job(job, Job.DONE, message)
    except Cancelled:
        end_job(job, Job.CANCELLED, "Cancelled. What was built so far is kept and used by the next run.")
    except (DoppioError, OSError) as error:
        end_job(job, Job.FAILED, _told(error))
    except (OperationalError, InterfaceError):
        # The database went away, which is no fault of the job's: once it is back, the sweep has it queued again.
        log.exception("job %s lost its database", number)
        raise
    except Exception as error:
        log.exception("job %s failed", number)
        end_job(
            job, Job.FAILED, f"Unexpected error: {type(error).__name__}: {error}. The worker's log has the details."
        )


def _told(error: Exception) -> str:
    """What went wrong, and what would mend it where the disk is full."""
    if not isinstance(error, OSError) or error.errno not in (errno.ENOSPC, errno.EDQUOT):
        return str(error)
    where = f"{error.filename}: " if error.filename else ""
    return (
        f"{where}there is no space left on {socket.gethostname()}; make some, and run it again. What was done is "
        "kept, and nothing half-done stays behind."
    )


def run_in_thread(number: int, work: Callable[[Job, JobProgress], str]) -> None:
    """Run a job on a thread of the worker's: what it opened would stay open with the thread."""
    try:
        run_job(number, work)
    finally:
        connections.close_all()


def end_job(job: Job, state: str, message: str) -> None:
    """Record how a job ended."""
    job.state, job.message, job.ended_at = state, message, timezone.now()
    if state == Job.DONE:
        job.done = job.total
    job.save(update_fields=["state", "message", "ended_at", "done"])


def request_cancel(job: Job) -> Job:
    """Ask a job to stop; one that has not started ends at once."""
    with transaction.atomic():
        job = Job.objects.select_for_update().get(pk=job.pk)
        job.cancel_requested = True
        job.save(update_fields=["cancel_requested"])
        if job.state == Job.QUEUED:
            end_job(job, Job.CANCELLED, "Cancelled before it started.")
    return job
