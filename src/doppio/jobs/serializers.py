"""What the API says about jobs."""

from rest_framework import serializers as s


class JobSerializer(s.Serializer):
    id = s.IntegerField()
    kind = s.CharField()
    title = s.CharField()
    state = s.ChoiceField(choices=["queued", "running", "done", "failed", "cancelled"])
    step = s.CharField(allow_blank=True)
    unit = s.CharField(allow_blank=True)
    done = s.IntegerField()
    total = s.IntegerField()
    rate = s.FloatField(help_text="Units a second.")
    seconds_left = s.FloatField(allow_null=True)
    message = s.CharField(allow_blank=True)
    cancel_requested = s.BooleanField()
    recipe = s.IntegerField(source="details.recipe", allow_null=True, default=None)
    created_at = s.DateTimeField()
    started_at = s.DateTimeField(allow_null=True)
    ended_at = s.DateTimeField(allow_null=True)
