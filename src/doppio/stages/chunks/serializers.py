"""What the API says about a way of cutting."""

from rest_framework import serializers as s


class LengthBinSerializer(s.Serializer):
    low = s.IntegerField()
    high = s.IntegerField()
    chunks = s.IntegerField()


class ChunkingSerializer(s.Serializer):
    """The chunking part of a recipe, whole or without what is left at its default."""

    chunking = s.JSONField()


class CutRequestSerializer(ChunkingSerializer):
    document = s.IntegerField()


class CutChunkSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    tokens = s.IntegerField()
    context = s.IntegerField(help_text="Tokens of the context line.")  # type: ignore[assignment]
    host_start = s.IntegerField()
    host_end = s.IntegerField()
    handed = s.IntegerField(help_text="Tokens of what is handed on.")
    past = s.IntegerField(allow_null=True, help_text="Offset of the first token that the encoder does not read.")
    begins_inside = s.BooleanField(help_text="Begins inside of a sentence.")
    ends_inside = s.BooleanField()


class CutAnswerSerializer(s.Serializer):
    question = s.IntegerField()
    text = s.CharField()
    start = s.IntegerField()
    end = s.IntegerField()
    state = s.ChoiceField(choices=["intact", "cut", "spread", "outside"])
    pieces = s.IntegerField(help_text="Chunks that hold a part of it.")
    best = s.FloatField(help_text="Largest part of it in one chunk.")


class CutSerializer(s.Serializer):
    document = s.IntegerField()
    limit = s.IntegerField(help_text="Tokens that the encoder reads.")
    seconds = s.FloatField()
    chunks = CutChunkSerializer(many=True)
    answers = CutAnswerSerializer(many=True)


class PlaceSerializer(s.Serializer):
    number = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    start = s.IntegerField()
    end = s.IntegerField()
    tokens = s.IntegerField()
    text = s.CharField()


class TwinsSerializer(s.Serializer):
    alike = s.FloatField(help_text="Share of word triples in common.")
    one = PlaceSerializer()
    other = PlaceSerializer()


class PlacedAnswerSerializer(s.Serializer):
    question = s.IntegerField()
    text = s.CharField()
    document = s.IntegerField()
    title = s.CharField()
    start = s.IntegerField()
    state = s.CharField()
    pieces = s.IntegerField()
    best = s.FloatField()


class ProblemsSerializer(s.Serializer):
    too_long = PlaceSerializer(many=True)
    too_short = PlaceSerializer(many=True)
    inside = PlaceSerializer(many=True)
    twins = TwinsSerializer(many=True)
    answers = PlacedAnswerSerializer(many=True)


class SpanCountsSerializer(s.Serializer):
    intact = s.IntegerField()
    cut = s.IntegerField()
    spread = s.IntegerField()
    outside = s.IntegerField(help_text="In a section that was left out.")


class ChunkFiguresSerializer(s.Serializer):
    """Lengths are encoder tokens with the context line."""

    chunks = s.IntegerField()
    median = s.FloatField()
    p95 = s.FloatField()
    longest = s.IntegerField()
    overlap = s.FloatField(help_text="Share of the stored text that is stored a second time.")
    too_long = s.IntegerField()
    unread = s.IntegerField(help_text="Tokens past the encoder's limit.")
    too_short = s.IntegerField()
    inside = s.IntegerField(help_text="Chunks that begin or end inside of a sentence.")
    twins = s.IntegerField(help_text="Pairs of nearly identical chunks.")
    spans = SpanCountsSerializer()
    limit = s.IntegerField()
    short = s.IntegerField()
    bins = LengthBinSerializer(many=True)
    problems = ProblemsSerializer()
    seconds = s.FloatField()
