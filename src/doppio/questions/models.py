"""Labelled questions, and what people typed, as records."""

from django.conf import settings
from django.db import models

from doppio.core.question.conditions import LONGEST
from doppio.library.models import Document, Workspace
from doppio.recipes.models import RecipeVersion


class QuestionSet(models.Model):
    """Questions that belong together; `measured` says whether trials ask them."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="question_sets")
    name = models.CharField(max_length=120)
    note = models.CharField(max_length=300, blank=True)
    measured = models.BooleanField(default=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [models.UniqueConstraint("workspace", "name", name="question_set_once")]


class Question(models.Model):
    """A question of a workspace, with the labels that people gave it.

    One without a label waits for one and is not measured, unless a person said that no document answers it. Those
    of one `group` are the same in other words. `only` are the conditions that belong to it, `picture` names one that
    it is asked by, which counts `share` beside its words. `marked` is the workspace's count after the question or one
    of its labels changed last.
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="questions")
    set = models.ForeignKey(QuestionSet, models.CASCADE, related_name="questions")
    identity = models.CharField(max_length=120)
    text = models.TextField()
    tags = models.JSONField(default=list)
    group = models.CharField(max_length=120, blank=True)
    unanswerable = models.BooleanField(default=False)
    only = models.CharField(max_length=LONGEST, blank=True)
    picture = models.CharField(max_length=40, blank=True)
    share = models.FloatField(default=0.5)
    marked = models.PositiveBigIntegerField(default=0)
    position = models.PositiveIntegerField()

    class Meta:
        ordering = ["position"]
        indexes = [models.Index(fields=["workspace", "position"], name="question_order")]
        constraints = [models.UniqueConstraint("workspace", "identity", name="question_identity_once")]


class AnswerSpans(models.QuerySet["AnswerSpan"]):
    """Labels as they are asked for."""

    def counting(self) -> "AnswerSpans":
        """Those that say where an answer stands; see `AnswerSpan.counts`."""
        return self.filter(lost=False, grade__gt=0)


class AnswerSpan(models.Model):
    """A label: a range of a document, or a whole document where start and end are empty.

    A label that lost its place when its document changed or went keeps its quote and waits for a person. Grade 0 says
    that somebody looked and found no answer there.
    """

    question = models.ForeignKey(Question, models.CASCADE, related_name="spans")
    document = models.ForeignKey(Document, models.SET_NULL, null=True, related_name="spans")
    document_name = models.CharField(max_length=500, blank=True)
    quote = models.TextField(blank=True)
    lost = models.BooleanField(default=False)
    start = models.PositiveIntegerField(null=True)
    end = models.PositiveIntegerField(null=True)
    grade = models.FloatField(default=1)
    judge = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    judged_at = models.DateTimeField(auto_now=True, null=True)

    objects = AnswerSpans.as_manager()

    class Meta:
        ordering = ["pk"]

    @property
    def counts(self) -> bool:
        """Whether it says where an answer stands."""
        return not self.lost and self.grade > 0


class AskedQuestion(models.Model):
    """A question that a person typed, once for each person and text; asked again it is found again."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="asked")
    recipe = models.ForeignKey(RecipeVersion, models.CASCADE)
    text = models.TextField()
    asked_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    asked_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-asked_at"]
        indexes = [models.Index(fields=["workspace", "asked_by", "-asked_at"], name="asked_by_person")]


class Decision(models.Model):
    """What a person made of a suggested question: the question that came of it, or none where it was refused."""

    document = models.ForeignKey(Document, models.CASCADE, related_name="decisions")
    rule = models.CharField(max_length=40)
    text = models.CharField(max_length=300)
    question = models.ForeignKey(Question, models.SET_NULL, null=True, related_name="+")
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint("document", "text", name="decided_once")]
