"""What the API says about recipes, encoders and what a build costs."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer
from doppio.recipes.document import RecipeField


class RecipeSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    version = s.IntegerField()
    body = RecipeField()
    note = s.CharField(allow_blank=True)
    in_force = s.BooleanField()
    saved_at = s.DateTimeField()


class NewRecipeSerializer(s.Serializer):
    body = RecipeField()
    note = s.CharField(allow_blank=True, default="", max_length=300)


class SavedRecipeSerializer(s.Serializer):
    recipe = RecipeSerializer()
    job = JobSerializer(allow_null=True)


class EncoderSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    dimension = s.IntegerField(allow_null=True)
    max_tokens = s.IntegerField(allow_null=True)
    made_for = s.CharField()
    warning = s.CharField(allow_blank=True)
    remote = s.BooleanField()


class RecipeBodySerializer(s.Serializer):
    body = RecipeField()


class CostStepSerializer(s.Serializer):
    title = s.CharField()
    chunks = s.IntegerField()
    tokens = s.IntegerField()
    seconds = s.FloatField()
    bytes = s.FloatField()


class CostSerializer(s.Serializer):
    cut = s.IntegerField(help_text="Chunks that have yet to be cut, about.")
    steps = CostStepSerializer(many=True)
    seconds = s.FloatField()
    disk_bytes = s.IntegerField()
    memory_bytes = s.IntegerField(help_text="What the build holds at most beside the models.")
    remarks = s.ListField(child=s.CharField(), help_text="Settings that cannot do what they say.")
