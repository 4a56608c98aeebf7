"""Labelled questions, and what people typed, as records."""

from django.conf import settings
from django.db import models

from doppio.library.models import Document, Workspace
from doppio.recipes.models import RecipeVersion


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
