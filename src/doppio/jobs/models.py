"""Long work as records, and how fast its steps go on this machine."""

from django.conf import settings
from django.db import models

from doppio.library.models import Workspace


class MeasuredRate(models.Model):
    """How fast a step of a build went on this machine when it ran last."""

    step = models.CharField(max_length=80, unique=True)
    unit = models.CharField(max_length=40)
    per_second = models.FloatField()
    measured_at = models.DateTimeField(auto_now=True)


class Job(models.Model):
    """Long work: what it is doing, how far it is, how it ended."""

    QUEUED, RUNNING, DONE, FAILED, CANCELLED = "queued", "running", "done", "failed", "cancelled"
    STATES = [(state, state) for state in (QUEUED, RUNNING, DONE, FAILED, CANCELLED)]

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="jobs")
    kind = models.CharField(max_length=40)
    title = models.CharField(max_length=200)
    details = models.JSONField(default=dict)
    state = models.CharField(max_length=10, choices=STATES, default=QUEUED)
    step = models.CharField(max_length=80, blank=True)
    unit = models.CharField(max_length=40, blank=True)
    done = models.PositiveBigIntegerField(default=0)
    total = models.PositiveBigIntegerField(default=0)
    rate = models.FloatField(default=0)
    message = models.TextField(blank=True)
    cancel_requested = models.BooleanField(default=False)
    started_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]
        indexes = [models.Index(fields=["workspace", "state"], name="job_state")]

    @property
    def seconds_left(self) -> float | None:
        """Estimate for the running step; None while nothing has been measured."""
        return (self.total - self.done) / self.rate if self.rate and self.state == self.RUNNING else None
