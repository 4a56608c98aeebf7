"""Files that people bring in."""

from django.conf import settings
from django.db import models

from doppio.jobs.models import Job
from doppio.library.models import Workspace


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

    # A picture that a page shows is part of the page.
    WAITING, OPENED, SHOWN = "waiting", "opened", "shown"

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
