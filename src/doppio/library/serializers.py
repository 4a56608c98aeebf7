"""What the API says about the session, documents and chunks."""

from rest_framework import serializers as s


class SessionSerializer(s.Serializer):
    username = s.CharField()
    token = s.CharField(help_text="To be sent as X-CSRFToken with everything that changes something.")


class EventSerializer(s.Serializer):
    id = s.IntegerField()
    at = s.DateTimeField()
    kind = s.CharField()
    name = s.CharField()
    about = s.DictField()
    taken_back = s.CharField(allow_null=True, help_text="Who took it back.")
    can_be_taken_back = s.BooleanField()


class EventsSerializer(s.Serializer):
    events = EventSerializer(many=True)
    people = s.ListField(child=s.CharField(), help_text="Who did anything here.")
    kinds = s.ListField(child=s.CharField(), help_text="What was done here.")
    before = s.IntegerField(allow_null=True, help_text="Ask with this for those before; null where there are none.")


class MetadataSerializer(s.Serializer):
    key = s.CharField()
    kind = s.ChoiceField(choices=["text", "number", "date", "list"])
    value = s.JSONField()


class DocumentRowSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    title = s.CharField()
    version = s.IntegerField()
    words = s.IntegerField()
    pages = s.IntegerField(help_text="0 where the format has none.")
    sections = s.IntegerField()
    blocks = s.IntegerField()
    metadata = MetadataSerializer(many=True)


class SectionSerializer(s.Serializer):
    index = s.IntegerField()
    number = s.CharField(allow_blank=True)
    title = s.CharField()
    level = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
    parent = s.IntegerField(help_text="Index of the section around this one; -1 at the top.")  # type: ignore[assignment]
    page = s.IntegerField(help_text="0 where the format has no pages.")
    dropped = s.BooleanField(help_text="Whether a person left it out of chunks.")
    doubts = s.ListField(child=s.CharField(), help_text="Why a person should look at the heading.")


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


class CorrectionSerializer(s.Serializer):
    heading = s.CharField()
    occurrence = s.IntegerField()
    action = s.ChoiceField(choices=["title", "level", "join", "split", "drop"])
    value = s.JSONField(allow_null=True)


class VersionSerializer(s.Serializer):
    version = s.IntegerField()
    words = s.IntegerField()
    labels_moved = s.IntegerField()
    labels_lost = s.IntegerField()
    corrections_lost = CorrectionSerializer(many=True)
    made_at = s.DateTimeField()


class FigureInTextSerializer(s.Serializer):
    """A picture of a document: `start` and `end` are where its alternative text stands, or are the same."""

    number = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
    alt = s.CharField(allow_blank=True)
    caption = s.CharField(allow_blank=True)
    width = s.IntegerField(help_text="In pixels.")
    height = s.IntegerField()
    page = s.IntegerField(help_text="0 where the document has no pages.")
    place = s.ListField(child=s.FloatField(), help_text="Left, top, right, bottom as shares of the page; or empty.")
    anchor = s.ListField(
        child=s.IntegerField(),
        help_text="The range of the text that stands for it; a label there is the picture's.",
    )


class DocumentSerializer(s.Serializer):
    """Offsets count Unicode code points of the text."""

    id = s.IntegerField()
    name = s.CharField()
    title = s.CharField()
    text = s.CharField()
    version = s.IntegerField()
    words = s.IntegerField()
    pages = s.IntegerField()
    pictures = s.BooleanField(help_text="Whether its pages can be shown as pictures.")
    figures = FigureInTextSerializer(many=True)
    blocks = BlockSerializer(many=True)
    sections = SectionSerializer(many=True)
    metadata = MetadataSerializer(many=True)
    carried = s.DictField(child=s.CharField())
    corrections = CorrectionSerializer(many=True)
    versions = VersionSerializer(many=True)


class StandingLineSerializer(s.Serializer):
    place = s.ListField(child=s.FloatField(), help_text="Left, top, right and bottom as shares of the page.")
    start = s.IntegerField()
    end = s.IntegerField()
    whole = s.BooleanField(help_text="Whether the range is all of the row of a table that the line is a part of.")


class StandingPictureSerializer(s.Serializer):
    place = s.ListField(child=s.FloatField())
    start = s.IntegerField(help_text="Of what stands for it in the text.")
    end = s.IntegerField()
    number = s.IntegerField()


class PageStandingSerializer(s.Serializer):
    lines = StandingLineSerializer(many=True)
    pictures = StandingPictureSerializer(many=True)


class OutlineSerializer(s.Serializer):
    """A person's correction of one heading: `start` is the offset of its block."""

    start = s.IntegerField()
    action = s.ChoiceField(choices=["title", "level", "join", "split", "drop", "undo"])
    value = s.JSONField(allow_null=True, default=None)
    heading = s.CharField(required=False, help_text="For a split, the words that become the heading.")


class RemoveSerializer(s.Serializer):
    documents = s.ListField(child=s.IntegerField(), allow_empty=False)


class RemovedSerializer(s.Serializer):
    removed = s.IntegerField()
