"""Index records and jobs."""

from django.conf import settings
from django.db import models

from doppio.library.models import Chunking, Workspace


class Index(models.Model):
    """An artifact on disk that was built over a chunking."""

    chunking = models.ForeignKey(Chunking, models.CASCADE, related_name="indexes")
    kind = models.CharField(max_length=40)
    key = models.CharField(max_length=20)
    bytes = models.PositiveBigIntegerField()
    meta = models.JSONField(default=dict)
    built_at = models.DateTimeField(auto_now=True)

    class Meta:
        verbose_name_plural = "indexes"
        constraints = [models.UniqueConstraint("chunking", "kind", "key", name="index_key_once")]


class Survey(models.Model):
    """Structures measured against the exact search on the vectors of a workspace."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="surveys")
    key = models.CharField(max_length=100)
    points = models.JSONField()
    questions = models.PositiveIntegerField()
    measured_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "key", name="survey_once")]


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


class Import(models.Model):
    """Files that a person brings in together; the job is there once it has been started."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="imports")
    job = models.OneToOneField(Job, models.SET_NULL, null=True, related_name="brought_in")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class ImportedFile(models.Model):
    """One file of an import: waiting, or what became of it and why."""

    WAITING, OPENED = "waiting", "opened"

    brought_in = models.ForeignKey(Import, models.CASCADE, related_name="files")
    position = models.PositiveIntegerField()
    name = models.CharField(max_length=500)
    bytes = models.PositiveBigIntegerField()
    digest = models.CharField(max_length=40, blank=True)
    fields = models.JSONField(null=True)
    state = models.CharField(max_length=10, default=WAITING)
    reason = models.TextField(blank=True)
    counts = models.JSONField(default=dict)
    seconds = models.FloatField(default=0)

    class Meta:
        ordering = ["position"]
        constraints = [models.UniqueConstraint("brought_in", "position", name="import_position_once")]
