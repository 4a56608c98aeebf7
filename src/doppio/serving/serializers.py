"""What the pages of a workspace send and get about what it serves."""

from rest_framework import serializers as s

from doppio.serving.models import Key, Published

NAME = "1 to 60 small letters, digits and hyphens; one installation has each name once."


class PublishSerializer(s.Serializer):
    name = s.CharField(max_length=60, help_text=NAME)
    recipe = s.IntegerField()


class ServedVersionSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    version = s.IntegerField()


class ReleaseSerializer(s.Serializer):
    id = s.IntegerField()
    recipe = ServedVersionSerializer()
    back = s.BooleanField(help_text="Whether it was a way back to an earlier version.")
    by = s.CharField(allow_blank=True)
    at = s.DateTimeField()


class KeySerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    begins = s.CharField(help_text="The first signs of the secret.")
    scopes = s.ListField(child=s.ChoiceField(choices=Key.SCOPES))
    a_minute = s.IntegerField(allow_null=True)
    a_day = s.IntegerField(allow_null=True)
    expires_at = s.DateTimeField(allow_null=True)
    revoked_at = s.DateTimeField(allow_null=True)
    made_at = s.DateTimeField()
    made_by = s.CharField(allow_blank=True)
    second = s.BooleanField(help_text="Whether the second version answers it.")
    today = s.IntegerField(help_text="Questions today.")
    week = s.IntegerField(help_text="Questions in the last seven days.")
    refused = s.IntegerField(help_text="Of the last seven days, those that were over a limit.")


class PublishedSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    recipe = ServedVersionSerializer()
    answers = s.BooleanField(help_text="Whether it answers, or hands passages on.")
    second = ServedVersionSerializer(allow_null=True)
    use = s.ChoiceField(choices=Published.USES, help_text="What the second version is for.")
    share = s.FloatField()
    keep_days = s.IntegerField()
    redact = s.ListField(child=s.CharField())
    before = ServedVersionSerializer(allow_null=True, help_text="The version that answered before.")
    opening = s.IntegerField(help_text="Server processes that still answer with an earlier version.")
    processes = s.IntegerField(help_text="Server processes that answer.")
    releases = ReleaseSerializer(many=True)
    keys = KeySerializer(many=True)


class ReleaseGivenSerializer(s.Serializer):
    recipe = s.IntegerField(required=False, help_text="The version that shall answer.")
    back = s.BooleanField(default=False, help_text="The version before, instead.")


class BesideGivenSerializer(s.Serializer):
    recipe = s.IntegerField(allow_null=True)
    use = s.ChoiceField(choices=Published.USES, allow_blank=True)
    share = s.FloatField(default=1.0)


class KeepSerializer(s.Serializer):
    keep_days = s.IntegerField(help_text="0 where words of questions are not kept.")
    redact = s.ListField(child=s.CharField(max_length=300, allow_blank=True), max_length=30)


class NewKeySerializer(s.Serializer):
    name = s.CharField(max_length=80)
    scopes = s.ListField(child=s.ChoiceField(choices=Key.SCOPES), min_length=1)
    a_minute = s.IntegerField(required=False, allow_null=True)
    a_day = s.IntegerField(required=False, allow_null=True)
    days = s.IntegerField(required=False, allow_null=True, min_value=1, max_value=3650, help_text="Until it ends.")


class MadeKeySerializer(KeySerializer):
    secret = s.CharField(help_text="Told this once.")


class StageTimesSerializer(s.Serializer):
    stage = s.CharField()
    count = s.IntegerField()
    median = s.FloatField()
    p95 = s.FloatField()
    p99 = s.FloatField()


class VersionFiguresSerializer(s.Serializer):
    id = s.IntegerField()
    recipe = s.CharField()
    asked = s.IntegerField()
    up = s.IntegerField()
    down = s.IntegerField()
    liked = s.ListField(child=s.FloatField(), help_text="The share that liked it, and its interval; or nothing.")
    median = s.FloatField(allow_null=True)


class BesideFiguresSerializer(s.Serializer):
    recipe = s.CharField()
    asked = s.IntegerField()
    overlap = s.FloatField(help_text="Mean share of the first passages that both have.")
    rbo = s.FloatField(help_text="Mean rank-biased overlap, where the first places count most.")
    same = s.IntegerField(help_text="Questions with the very same passages.")
    seconds = s.FloatField()
    first_seconds = s.FloatField()
    emptier = s.IntegerField(help_text="Questions that only the first had passages for.")


class FiguresSerializer(s.Serializer):
    hours = s.IntegerField()
    asked = s.IntegerField()
    of = s.IntegerField(help_text="All that were served in this time; figures are of the latest 20,000 at most.")
    begin = s.DateTimeField()
    load = s.ListField(child=s.IntegerField(), help_text="Questions in equal parts of the time.")
    stages = StageTimesSerializer(many=True)
    empty = s.IntegerField()
    silent = s.IntegerField()
    failed = s.IntegerField()
    up = s.IntegerField()
    down = s.IntegerField()
    versions = VersionFiguresSerializer(many=True)
    beside = BesideFiguresSerializer(allow_null=True)
    keys = s.DictField(child=s.IntegerField())


class ToLabelSerializer(s.Serializer):
    request = s.CharField()
    question = s.CharField()
    why = s.CharField()
    wrong = s.CharField(allow_blank=True)
    at = s.DateTimeField()
    pieces = s.IntegerField()
    answered = s.FloatField(allow_null=True)
    best = s.FloatField(allow_null=True)


class FarSerializer(s.Serializer):
    question = s.CharField()
    nearest = s.FloatField(help_text="Cosine to the nearest labelled question.")


class StrangersSerializer(s.Serializer):
    live = s.FloatField(help_text="Cosine to the nearest labelled question, in the median; larger is nearer.")
    labelled = s.FloatField(help_text="Of labelled ones to the nearest other.")
    threshold = s.FloatField(help_text="What 95 of 100 labelled ones reach.")
    strangers = s.FloatField(help_text="Share of live questions that do not; about .05 where they are alike.")
    p = s.FloatField(help_text="How likely that is by chance.")
    compared = s.IntegerField()
    beside = s.IntegerField()
    farthest = FarSerializer(many=True)


class TakeSerializer(s.Serializer):
    requests = s.ListField(child=s.CharField(max_length=32), min_length=1, max_length=500)


class TakenSerializer(s.Serializer):
    made = s.IntegerField(help_text="Questions that wait for a label now.")
    there = s.IntegerField(help_text="Those that waited already.")
