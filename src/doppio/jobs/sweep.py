"""Bringing job records and the queue together, and throwing away what has been kept long enough."""

import logging
from datetime import datetime, timedelta

from django.conf import settings
from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from doppio.jobs.models import Job
from doppio.jobs.running import end_job
from doppio.library.signals import tidying

OPEN = (Job.QUEUED, Job.RUNNING)
AGAIN_AT_MOST = 3
log = logging.getLogger(__name__)


def sweep() -> int:
    """Queue the jobs again that nobody works on any more, such as those whose database went away under them.

    Returns how many there were. One that was lost several times is ended instead, with its reason.
    """
    there = list(Job.objects.filter(state__in=OPEN).values_list("pk", flat=True))
    if not there:
        return 0
    worked_on = ProcrastinateJob.objects.filter(status__in=("todo", "doing"), args__job__in=there)
    lost = set(there) - {args["job"] for args in worked_on.values_list("args", flat=True)}
    return sum(_take_up(number) for number in sorted(lost))


@transaction.atomic
def _take_up(number: int) -> bool:
    job = Job.objects.select_for_update().filter(pk=number, state__in=OPEN).first()
    if job is None:
        return False
    times = job.details.get("taken_up", 0)
    if job.cancel_requested or times >= AGAIN_AT_MOST:
        state = Job.CANCELLED if job.cancel_requested else Job.FAILED
        end_job(job, state, f"Its worker was lost {times + 1} times; start it again. The worker's log has more.")
        return True
    log.warning("job %s was lost and is queued again", number)
    job.details = {**job.details, "taken_up": times + 1}
    job.state = Job.QUEUED
    job.save(update_fields=["details", "state"])
    app.tasks[job.kind].defer(job=job.pk)
    return True


def tidy(now: datetime) -> None:
    """Throw away what is older than the settings say: ended jobs, uploads that never started, typed questions."""
    # What belongs to a job goes before it, since it is found by it.
    tidying.send(None, now=now)
    Job.objects.filter(ended_at__lt=now - timedelta(days=settings.DOPPIO_KEEP_JOBS_DAYS)).delete()
