"""Trials, and other measurements, as records."""

from django.db import models

from doppio.jobs.models import Job
from doppio.library.models import Workspace
from doppio.questions.models import Question
from doppio.recipes.models import RecipeVersion


class TrialRecord(models.Model):
    """A recipe over the workspace's questions.

    `corpus` is the fingerprint of the documents that it was run on, `marked` the workspace's count of changes of
    labels then.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="trials")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="trials")
    job = models.ForeignKey(Job, models.SET_NULL, null=True, related_name="trials")
    corpus = models.CharField(max_length=20)
    marked = models.PositiveBigIntegerField(default=0)
    stages = models.JSONField()
    levels = models.JSONField()
    ledger = models.JSONField()
    seconds = models.JSONField()
    documents = models.PositiveIntegerField(null=True)
    chunks = models.PositiveIntegerField()
    intact = models.PositiveIntegerField()
    answerable = models.PositiveIntegerField()
    questions = models.PositiveIntegerField()
    measured_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class TrialRow(models.Model):
    """What a trial found for one question."""

    trial = models.ForeignKey(TrialRecord, models.CASCADE, related_name="rows")
    question = models.ForeignKey(Question, models.CASCADE, related_name="rows")
    cause = models.CharField(max_length=40)
    ranks = models.JSONField()
    in_play = models.JSONField()
    intact = models.JSONField(default=list)
    trace = models.JSONField()

    class Meta:
        constraints = [models.UniqueConstraint("trial", "question", name="trial_question_once")]


class Survey(models.Model):
    """Structures measured against the exact search on the vectors of a workspace."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="surveys")
    key = models.CharField(max_length=100)
    points = models.JSONField()
    questions = models.PositiveIntegerField()
    measured_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "key", name="survey_once")]
