"""What the API says about sweeps."""

from rest_framework import serializers as s

from doppio.core.measure.sweep_plan import GRID, MOST, WAYS
from doppio.jobs.serializers import JobSerializer
from doppio.recipes.serializers import RecipeSerializer
from doppio.trials.serializers import DifferenceSerializer

AXES = 6


class AxisOfferSerializer(s.Serializer):
    path = s.CharField()
    title = s.CharField()
    now = s.JSONField(allow_null=True)
    values = s.CharField(help_text="To begin with, as an axis has them.")
    built = s.BooleanField(help_text="Whether something is built anew for each value.")


class NewSweepSerializer(s.Serializer):
    recipe = s.IntegerField()
    axes = s.ListField(
        child=s.CharField(max_length=2_000),
        min_length=1,
        max_length=AXES,
        help_text="Each a setting and its values: branches[0].k1=0.8,1.2 or fusion.weights.dense=0.5..4/8.",
    )
    figure = s.CharField(max_length=120, help_text="Such as recall@5, or fused:recall@20.")
    by = s.ChoiceField(choices=WAYS, default=GRID)
    most = s.IntegerField(min_value=1, max_value=MOST, default=50, help_text="Settings that are drawn at random.")
    seed = s.IntegerField(min_value=0, max_value=2**31 - 1, default=0)


class OutlookSerializer(s.Serializer):
    settings = s.IntegerField()
    questions = s.IntegerField()
    builds = s.IntegerField(help_text="Indexes that are lacking.")
    building = s.FloatField(help_text="Seconds to build what is lacking, by this machine's rates.")
    seconds = s.FloatField(allow_null=True, help_text="Seconds of asking; null if nothing was measured.")


class SweepSerializer(s.Serializer):
    id = s.IntegerField()
    recipe = RecipeSerializer()
    axes = s.ListField(child=s.CharField())
    figure = s.CharField()
    by = s.CharField()
    job = JobSerializer(allow_null=True)
    tried = s.IntegerField(help_text="Settings that some questions were asked under.")
    questions = s.IntegerField()
    current = s.BooleanField(help_text="Whether it stands for the present documents and labels.")
    done = s.BooleanField()
    made_at = s.DateTimeField()


class MovedSerializer(s.Serializer):
    path = s.CharField()
    title = s.CharField()
    values = s.ListField(child=s.JSONField(allow_null=True))


class SweepRowSerializer(s.Serializer):
    place = s.IntegerField(help_text="0 is the recipe as it is.")
    settings = s.DictField(child=s.JSONField(allow_null=True))
    mean = s.FloatField(allow_null=True)
    asked = s.IntegerField(help_text="Questions that were asked.")
    height = s.FloatField(
        allow_null=True, help_text="The mean with that of the settings around it; null until all has been tried."
    )


class ChosenSerializer(s.Serializer):
    chosen = s.IntegerField(help_text="The place of the settings to take.")
    flattering = s.FloatField(help_text="Their figure on the questions that they were chosen by.")
    honest = s.FloatField(help_text="On questions that had no part in the choice (nested cross-validation).")
    against = DifferenceSerializer(help_text="The honest figure from that of the recipe as it is.")
    said = s.CharField()
    picked = s.ListField(child=s.IntegerField(), help_text="What each fold would have taken.")


class SweptSerializer(SweepSerializer):
    settings = s.IntegerField(help_text="How many are tried.")
    moved = MovedSerializer(many=True)
    rows = SweepRowSerializer(many=True)
    chosen = ChosenSerializer(allow_null=True)


class SweepBodySerializer(s.Serializer):
    body = s.DictField()
