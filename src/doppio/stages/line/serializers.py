"""What the API says about the line."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer
from doppio.recipes.serializers import RecipeSerializer


class StageLevelSerializer(s.Serializer):
    stage = s.CharField()
    kind = s.CharField()
    in_play = s.IntegerField(allow_null=True)
    lost = s.IntegerField(allow_null=True, help_text="Lost since the stage before.")
    facts = s.ListField(child=s.CharField())


class EarlierSerializer(s.Serializer):
    """What the levels of a line were measured on while the present documents are not measured."""

    documents = s.IntegerField(allow_null=True)
    measured_at = s.DateTimeField()


class LineSerializer(s.Serializer):
    recipe = RecipeSerializer()
    earlier = EarlierSerializer(allow_null=True)
    built = s.BooleanField()
    trial = s.IntegerField(allow_null=True)
    job = JobSerializer(allow_null=True)
    answerable = s.IntegerField()
    questions = s.IntegerField()
    delivered = s.IntegerField(allow_null=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)
    stages = StageLevelSerializer(many=True)
