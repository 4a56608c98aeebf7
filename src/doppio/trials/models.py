"""Trials, and other measurements, as records."""

from django.conf import settings
from django.db import models

from doppio.jobs.models import Job
from doppio.library.models import Document, Workspace
from doppio.questions.models import AnswerSpan, Question
from doppio.recipes.models import RecipeVersion


class TrialRecord(models.Model):
    """A recipe over the workspace's questions.

    `corpus` is the fingerprint of the documents that it was run on, `marked` the workspace's count of changes of
    labels then, `measures` the edition of the metrics.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="trials")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="trials")
    job = models.ForeignKey(Job, models.SET_NULL, null=True, related_name="trials")
    corpus = models.CharField(max_length=20)
    marked = models.PositiveBigIntegerField(default=0)
    measures = models.PositiveIntegerField(default=1)
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


class TrialFigures(models.Model):
    """All metrics of a trial, question by question, as one table.

    `values` are little-endian 32 bit numbers (questions, stages, metrics), NaN where a metric says nothing, deflated;
    `questions` are their records in the order of the rows. `delivered` stands among the metrics, at every stage.
    `costs` are what the figures were paid with: `milliseconds` a question (median), `tokens` handed on (mean), and
    `bytes` of indexes on disk.
    """

    trial = models.OneToOneField(TrialRecord, models.CASCADE, related_name="figures")
    questions = models.JSONField()
    stages = models.JSONField()
    metrics = models.JSONField()
    values = models.BinaryField()
    costs = models.JSONField(default=dict)


class Survey(models.Model):
    """Structures measured against the exact search on the vectors of a workspace."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="surveys")
    key = models.CharField(max_length=100)
    points = models.JSONField()
    questions = models.PositiveIntegerField()
    measured_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "key", name="survey_once")]


class Pool(models.Model):
    """Passages that several recipes found, to be judged without being told which did."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="pools")
    name = models.CharField(max_length=120)
    depth = models.PositiveIntegerField()
    recipes = models.JSONField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]
        constraints = [models.UniqueConstraint("workspace", "name", name="pool_once")]


class PoolItem(models.Model):
    """A passage of a pool: a range of a document for a question.

    `place` is drawn by lot; `covered` says whether a label lay in the passage when the pool was made. `settled` is
    what a further look decided where judges differ.
    """

    pool = models.ForeignKey(Pool, models.CASCADE, related_name="items")
    question = models.ForeignKey(Question, models.CASCADE, related_name="+")
    document = models.ForeignKey(Document, models.CASCADE, related_name="+")
    start = models.PositiveIntegerField()
    end = models.PositiveIntegerField()
    place = models.PositiveIntegerField()
    covered = models.BooleanField(default=False)
    settled = models.FloatField(null=True)
    settled_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    label = models.ForeignKey(AnswerSpan, models.SET_NULL, null=True, related_name="+")

    class Meta:
        ordering = ["covered", "place"]
        constraints = [models.UniqueConstraint("pool", "question", "document", "start", "end", name="pooled_once")]


class Judgement(models.Model):
    """What one judge says of a passage of a pool."""

    item = models.ForeignKey(PoolItem, models.CASCADE, related_name="judgements")
    judge = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="+")
    grade = models.FloatField()
    at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint("item", "judge", name="judged_once")]
