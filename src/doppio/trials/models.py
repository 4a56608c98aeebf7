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
    labels then, `measures` the edition of the metrics. `origin` says what else its figures hang on: code, packages,
    models, labels, machine; empty in trials from before it was kept. `answers` says what the answers are worth; empty
    where nothing answers.
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
    origin = models.JSONField(default=dict)
    answers = models.JSONField(default=dict)
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
    `costs` are what the figures were paid with: `milliseconds` a question (median), `tokens` handed on (mean),
    `bytes` of indexes on disk, and `price`, what endpoints are paid for 1,000 questions.
    """

    trial = models.OneToOneField(TrialRecord, models.CASCADE, related_name="figures")
    questions = models.JSONField()
    stages = models.JSONField()
    metrics = models.JSONField()
    values = models.BinaryField()
    costs = models.JSONField(default=dict)


class OutsideRun(models.Model):
    """A ranking from elsewhere for the questions of a workspace: a TREC run, as it was given.

    `text` is the file, deflated. `values` are as in `TrialFigures`, with one stage; they were measured on `corpus`
    and `marked` with the metrics of edition `measures`.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="outside_runs")
    name = models.CharField(max_length=120)
    text = models.BinaryField()
    corpus = models.CharField(max_length=20)
    marked = models.PositiveBigIntegerField()
    measures = models.PositiveIntegerField()
    questions = models.JSONField()
    metrics = models.JSONField()
    values = models.BinaryField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint("workspace", "name", name="run_once")]


class Sweep(models.Model):
    """A recipe with some of its settings changed, over and over.

    `axes` are as the core reads them; `questions` are those that were asked, in the order of the values of a row.
    `corpus` and `marked` are as in a trial: what was tried stands for them alone. `found` is what was chosen, empty
    until all has been tried.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="sweeps")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, related_name="sweeps")
    job = models.ForeignKey(Job, models.SET_NULL, null=True, related_name="sweeps")
    axes = models.JSONField()
    figure = models.CharField(max_length=120)
    by = models.CharField(max_length=10)
    most = models.PositiveIntegerField()
    seed = models.PositiveIntegerField(default=0)
    corpus = models.CharField(max_length=20)
    marked = models.PositiveBigIntegerField()
    questions = models.JSONField(default=list)
    found = models.JSONField(default=dict)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]


class SweepRow(models.Model):
    """One of the settings of a sweep, and what every question gave under it: little-endian 32 bit numbers, deflated.

    NaN where a question was not asked.
    """

    sweep = models.ForeignKey(Sweep, models.CASCADE, related_name="rows")
    place = models.PositiveIntegerField()
    settings = models.JSONField()
    values = models.BinaryField()
    mean = models.FloatField(null=True)
    asked = models.PositiveIntegerField()

    class Meta:
        ordering = ["place"]
        constraints = [models.UniqueConstraint("sweep", "place", name="tried_once")]


class Gate(models.Model):
    """A figure that is watched: of one recipe, or of whichever is in force where `recipe` is None.

    `stage` is the kind of stage that `metric` is measured after. `least` is what the figure may not fall below,
    `worst` the loss from `baseline` that is borne; either may be None. A gate with `every` hours is looked at that
    often, and each at every change of the documents.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="gates")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE, null=True, related_name="gates")
    metric = models.CharField(max_length=60)
    stage = models.CharField(max_length=40)
    least = models.FloatField(null=True)
    worst = models.FloatField(null=True)
    baseline = models.ForeignKey(TrialRecord, models.SET_NULL, null=True, related_name="+")
    every = models.PositiveIntegerField(null=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]


class GateResult(models.Model):
    """What a gate said of a trial.

    `against` is the difference from the baseline and `before` that from the result before, each empty where there is
    none. `documents` are those that changed since the result before, with the questions that moved and that they had
    a part in, most of them first.
    """

    gate = models.ForeignKey(Gate, models.CASCADE, related_name="results")
    trial = models.ForeignKey(TrialRecord, models.CASCADE, related_name="gates")
    mean = models.FloatField()
    questions = models.PositiveIntegerField()
    open = models.BooleanField()
    reasons = models.JSONField(default=list)
    against = models.JSONField(default=dict)
    before = models.JSONField(default=dict)
    documents = models.JSONField(default=list)
    moved = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["-pk"]
        constraints = [models.UniqueConstraint("gate", "trial", name="gated_once")]


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
