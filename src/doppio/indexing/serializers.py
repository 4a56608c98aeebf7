"""What the API says about jobs and indexes."""

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


class IndexSerializer(s.Serializer):
    kind = s.CharField()
    bytes = s.IntegerField()
    meta = s.JSONField()
    built_at = s.DateTimeField()


class TermRowSerializer(s.Serializer):
    term = s.CharField()
    chunks = s.IntegerField(help_text="Chunks that hold the term.")
    idf = s.FloatField()


class ImportedFileSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    bytes = s.IntegerField()
    fields = s.JSONField(allow_null=True)
    state = s.ChoiceField(choices=["waiting", "opened", "added", "replaced", "same", "refused"])
    reason = s.CharField(allow_blank=True)
    counts = s.DictField(child=s.IntegerField())
    seconds = s.FloatField()


class ImportSerializer(s.Serializer):
    id = s.IntegerField()
    job = JobSerializer(allow_null=True)
    states = s.DictField(child=s.IntegerField(), help_text="Files by state.")
    files = ImportedFileSerializer(many=True)


class StageSerializer(s.Serializer):
    files = s.ListField(child=s.FileField())
    names = s.ListField(child=s.CharField())


class FieldSeenSerializer(s.Serializer):
    name = s.CharField()
    samples = s.ListField(child=s.CharField())


class SetFieldsSerializer(s.Serializer):
    fields = s.JSONField(allow_null=True, help_text="matched, carried, title and id; null reads the file as it is.")
