"""Labelled questions and trials as records."""

from django.db import models

from doppio.asking.models import RecipeVersion
from doppio.indexing.models import Job
from doppio.library.models import Document, Workspace


class Question(models.Model):
    """A labelled question of a workspace."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="questions")
    identity = models.CharField(max_length=120)
    text = models.TextField()
    tags = models.JSONField(default=list)
    position = models.PositiveIntegerField()

    class Meta:
        ordering = ["position"]
        constraints = [models.UniqueConstraint("workspace", "identity", name="question_identity_once")]


class AnswerSpan(models.Model):
    """A label: a range of a document, or a whole document where start and end are empty.

    A label that lost its place when its document changed or went keeps its quote and waits for a person.
    """

    question = models.ForeignKey(Question, models.CASCADE, related_name="spans")
    document = models.ForeignKey(Document, models.SET_NULL, null=True, related_name="spans")
    document_name = models.CharField(max_length=500, blank=True)
    quote = models.TextField(blank=True)
    lost = models.BooleanField(default=False)
    start = models.PositiveIntegerField(null=True)
    end = models.PositiveIntegerField(null=True)
    grade = models.FloatField(default=1)

    class Meta:
        ordering = ["pk"]


class TrialRecord(models.Model):
    """A recipe over the workspace's questions; `corpus` is the fingerprint of the documents it was run on."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="trials")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="trials")
    job = models.ForeignKey(Job, models.SET_NULL, null=True, related_name="trials")
    corpus = models.CharField(max_length=20)
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
