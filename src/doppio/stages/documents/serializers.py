"""What the API says about a document under a recipe."""

from rest_framework import serializers as s

from doppio.library.serializers import ChunkRangeSerializer


class DocumentAnswerSerializer(s.Serializer):
    question = s.IntegerField()
    text = s.CharField()
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)
    cause = s.CharField(allow_null=True)


class DocumentViewSerializer(s.Serializer):
    chunks = ChunkRangeSerializer(many=True)
    answers = DocumentAnswerSerializer(many=True)
