"""What the API says about workspaces, documents and chunks."""

from rest_framework import serializers as s


class SessionSerializer(s.Serializer):
    username = s.CharField()


class WorkspaceSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    documents = s.IntegerField()
    words = s.IntegerField()


class DocumentRowSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    title = s.CharField()
    words = s.IntegerField()
    sections = s.IntegerField()
    blocks = s.IntegerField()


class SectionSerializer(s.Serializer):
    index = s.IntegerField()
    number = s.CharField(allow_blank=True)
    title = s.CharField()
    level = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
    parent = s.IntegerField(help_text="Index of the section around this one; -1 at the top.")


class BlockSerializer(s.Serializer):
    kind = s.CharField()
    start = s.IntegerField()
    end = s.IntegerField()
    level = s.IntegerField()


class ChunkRangeSerializer(s.Serializer):
    number = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
    tokens = s.IntegerField()


class DocumentSerializer(s.Serializer):
    """Offsets count Unicode code points of the text."""

    id = s.IntegerField()
    name = s.CharField()
    title = s.CharField()
    text = s.CharField()
    words = s.IntegerField()
    blocks = BlockSerializer(many=True)
    sections = SectionSerializer(many=True)
    metadata = s.JSONField()
