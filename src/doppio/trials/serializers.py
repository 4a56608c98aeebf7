"""What the API says about trials."""

from rest_framework import serializers as s

from doppio.recipes.serializers import RecipeSerializer


class TrialSerializer(s.Serializer):
    id = s.IntegerField()
    recipe = RecipeSerializer()
    kinds = s.DictField(child=s.CharField(), help_text="What each stage is: sparse, dense, fused, ...")
    current = s.BooleanField(help_text="Whether it was measured on the present documents.")
    stages = s.DictField(child=s.DictField(child=s.FloatField()))
    levels = s.DictField(child=s.IntegerField())
    ledger = s.DictField(child=s.IntegerField())
    seconds = s.DictField(child=s.FloatField())
    chunks = s.IntegerField()
    intact = s.IntegerField()
    answerable = s.IntegerField()
    questions = s.IntegerField()
    low = s.FloatField()
    high = s.FloatField()
    measured_at = s.DateTimeField()


class NewTrialSerializer(s.Serializer):
    recipe = s.IntegerField()
