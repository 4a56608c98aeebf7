"""What the API says about gates."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer
from doppio.recipes.serializers import RecipeSerializer
from doppio.trials.serializers import DifferenceSerializer

HOURS = (1, 24 * 30)


class NewGateSerializer(s.Serializer):
    recipe = s.IntegerField(
        allow_null=True, default=None, help_text="What is watched; null for whichever is in force."
    )
    metric = s.CharField(max_length=60, help_text="Such as recall@5, or delivered.")
    stage = s.CharField(max_length=40, default="context", help_text="The kind of stage that it is measured after.")
    least = s.FloatField(
        allow_null=True, default=None, min_value=0, max_value=1, help_text="What may not be fallen below."
    )
    worst = s.FloatField(
        allow_null=True,
        default=None,
        min_value=0,
        max_value=1,
        help_text="The loss from the baseline that is borne, where it is no chance (p below .05).",
    )
    every = s.IntegerField(
        allow_null=True,
        default=None,
        min_value=HOURS[0],
        max_value=HOURS[1],
        help_text="Hours between looks, beside those at every change of the documents.",
    )


class GateDifferenceSerializer(DifferenceSerializer):
    said = s.CharField(help_text="The difference in words.")


class MovedBySerializer(s.Serializer):
    name = s.CharField()
    became = s.ChoiceField(choices=["new", "changed", "removed"])
    answers = s.IntegerField(help_text="Questions that moved and whose answer is in it.")
    handed = s.IntegerField(help_text="Others that moved and were handed passages of it.")


class GateResultSerializer(s.Serializer):
    trial = s.IntegerField(source="trial_id")
    recipe = RecipeSerializer(source="trial.recipe")
    at = s.DateTimeField(source="trial.measured_at")
    mean = s.FloatField()
    questions = s.IntegerField()
    open = s.BooleanField()
    reasons = s.ListField(child=s.CharField())
    against = GateDifferenceSerializer(allow_null=True, help_text="From the baseline.")
    before = GateDifferenceSerializer(allow_null=True, help_text="From the result before.")
    documents = MovedBySerializer(many=True, help_text="Changed since the result before, by their part in it.")
    moved = s.IntegerField(help_text="Questions that moved since the result before.")


class GateSerializer(s.Serializer):
    id = s.IntegerField()
    title = s.CharField()
    recipe = RecipeSerializer(allow_null=True, help_text="Null where it watches whichever is in force.")
    metric = s.CharField()
    stage = s.CharField()
    least = s.FloatField(allow_null=True)
    worst = s.FloatField(allow_null=True)
    every = s.IntegerField(allow_null=True)
    baseline = s.IntegerField(source="baseline_id", allow_null=True, help_text="A trial.")
    current = s.BooleanField(help_text="Whether the newest result is of the present documents and labels.")
    results = GateResultSerializer(many=True, help_text="Newest first.")
    job = JobSerializer(allow_null=True, help_text="What measures it now.")
