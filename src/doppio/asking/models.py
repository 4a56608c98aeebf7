"""Recipes and questions asked as records."""

from django.conf import settings
from django.db import models

from doppio.library.models import Workspace


class RecipeVersion(models.Model):
    """A recipe as it was saved; versions of one name count up and never change."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="recipes")
    name = models.CharField(max_length=120)
    version = models.PositiveIntegerField()
    body = models.JSONField()
    fingerprint = models.CharField(max_length=20)
    note = models.CharField(max_length=300, blank=True)
    in_force = models.BooleanField(default=False)
    saved_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True)
    saved_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint("workspace", "name", "version", name="recipe_version_once"),
            models.UniqueConstraint(
                fields=["workspace"], condition=models.Q(in_force=True), name="one_recipe_in_force"
            ),
        ]


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
