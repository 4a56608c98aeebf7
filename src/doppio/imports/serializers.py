"""What the API says about imports."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer


class ImportedFileSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    bytes = s.IntegerField()
    fields = s.JSONField(allow_null=True)  # type: ignore[assignment]
    state = s.ChoiceField(choices=["waiting", "opened", "shown", "added", "replaced", "same", "refused"])
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
    fields = s.JSONField(allow_null=True, help_text="matched, carried, title and id; null reads the file as it is.")  # type: ignore[assignment]
