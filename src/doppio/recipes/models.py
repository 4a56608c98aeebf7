"""Recipes, and what was built for them, as records."""

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


class FittedScorer(models.Model):
    """Weights that were fitted to the labels of a workspace, as they were; versions count up.

    name : as recipes name it, which is that of its weights
    recipe : what it was fitted on
    body : the manifest of its folder
    figures : what it is worth on questions that it has not seen, beside what there was
    """

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="fitted_scorers")
    name = models.CharField(max_length=64)
    version = models.PositiveIntegerField()
    recipe = models.ForeignKey(RecipeVersion, models.SET_NULL, null=True, related_name="+")
    body = models.JSONField()
    figures = models.JSONField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-version"]
        constraints = [
            models.UniqueConstraint("workspace", "version", name="fitted_version_once"),
            models.UniqueConstraint("workspace", "name", name="fitted_name_once"),
        ]


class Chunking(models.Model):
    """The corpus cut by one rule; `key` is the fingerprint of both."""

    workspace = models.ForeignKey(Workspace, models.CASCADE, related_name="chunkings")
    key = models.CharField(max_length=20)
    settings = models.JSONField()
    count = models.PositiveIntegerField()
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [models.UniqueConstraint("workspace", "key", name="chunking_key_once")]


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
