"""What the API says about questions, the line and trials."""

from rest_framework import serializers as s

from doppio.asking.serializers import RecipeSerializer, TracedChunkSerializer, TraceSerializer
from doppio.indexing.serializers import JobSerializer
from doppio.library.serializers import ChunkRangeSerializer


class SpanSerializer(s.Serializer):
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)
    grade = s.FloatField()
    text = s.CharField(allow_blank=True)
    intact = s.BooleanField(help_text="Whether one chunk holds all of it.")
    chunks = s.ListField(child=s.IntegerField(), help_text="Relevant chunks.")


class QuestionRowSerializer(s.Serializer):
    id = s.IntegerField()
    identity = s.CharField()
    text = s.CharField()
    tags = s.ListField(child=s.CharField())
    answerable = s.BooleanField()
    lost = s.BooleanField(help_text="Whether all of its labels lost their place.")
    cause = s.CharField(allow_null=True, help_text="Row of the ledger; null before the first trial.")
    ranks = s.DictField(child=s.IntegerField(allow_null=True), help_text="Rank of the first relevant chunk a stage.")
    intact = s.BooleanField(allow_null=True)


class NamedDocumentSerializer(s.Serializer):
    id = s.IntegerField()
    title = s.CharField()


class AbsentSerializer(s.Serializer):
    """Documents that the index that answered does not have yet; the first of them by name."""

    count = s.IntegerField()
    documents = NamedDocumentSerializer(many=True)


class AskedSerializer(s.Serializer):
    """One question through the pipeline: `question` is null for a typed one."""

    absent = AbsentSerializer()
    kinds = s.DictField(child=s.CharField(), help_text="What each stage of the trace is: sparse, dense, fused, ...")
    question = QuestionRowSerializer(allow_null=True)
    spans = SpanSerializer(many=True)
    trace = TraceSerializer()
    cause = s.CharField(allow_null=True)
    in_play = s.DictField(child=s.BooleanField())
    ranks = s.DictField(child=s.IntegerField(allow_null=True))
    chunks = TracedChunkSerializer(many=True)


class StageLevelSerializer(s.Serializer):
    stage = s.CharField()
    kind = s.CharField()
    in_play = s.IntegerField(allow_null=True)
    lost = s.IntegerField(allow_null=True, help_text="Lost since the stage before.")
    facts = s.ListField(child=s.CharField())


class EarlierSerializer(s.Serializer):
    """What the levels of a line were measured on while the present documents are not measured."""

    documents = s.IntegerField(allow_null=True)
    measured_at = s.DateTimeField()


class LineSerializer(s.Serializer):
    recipe = RecipeSerializer()
    earlier = EarlierSerializer(allow_null=True)
    built = s.BooleanField()
    trial = s.IntegerField(allow_null=True)
    job = JobSerializer(allow_null=True)
    answerable = s.IntegerField()
    questions = s.IntegerField()
    delivered = s.IntegerField(allow_null=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)
    stages = StageLevelSerializer(many=True)


class TrialSerializer(s.Serializer):
    id = s.IntegerField()
    recipe = RecipeSerializer()
    kinds = s.DictField(child=s.CharField(), help_text="What each stage is: sparse, dense, fused, ...")
    current = s.BooleanField(help_text="Whether it was measured on the present documents.")
    stages = s.DictField(child=s.DictField(child=s.FloatField()))
    levels = s.DictField(child=s.IntegerField())
    ledger = s.DictField(child=s.IntegerField())
    seconds = s.DictField(child=s.FloatField())
    chunks = s.IntegerField()
    intact = s.IntegerField()
    answerable = s.IntegerField()
    questions = s.IntegerField()
    low = s.FloatField()
    high = s.FloatField()
    measured_at = s.DateTimeField()


class NewTrialSerializer(s.Serializer):
    recipe = s.IntegerField()


class SavedRecipeSerializer(s.Serializer):
    recipe = RecipeSerializer()
    job = JobSerializer(allow_null=True)


class MixPointSerializer(s.Serializer):
    dense = s.FloatField(help_text="Weight of the second branch, from 0 to 1; the first has the rest.")
    ranks = s.FloatField(help_text="recall@k of reciprocal ranks.")
    scores = s.FloatField(help_text="recall@k of scaled scores.")
    rank_by_ranks = s.IntegerField(allow_null=True)
    rank_by_scores = s.IntegerField(allow_null=True)


class MixSerializer(s.Serializer):
    branches = s.ListField(child=s.CharField())
    k = s.IntegerField()
    rrf_k = s.FloatField()
    questions = s.IntegerField()
    points = MixPointSerializer(many=True)


class DocumentAnswerSerializer(s.Serializer):
    question = s.IntegerField()
    text = s.CharField()
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)
    cause = s.CharField(allow_null=True)


class DocumentViewSerializer(s.Serializer):
    chunks = ChunkRangeSerializer(many=True)
    answers = DocumentAnswerSerializer(many=True)


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
    context = s.IntegerField(help_text="Tokens of the context line.")
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


class SuggestionSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    alike = s.FloatField(help_text="Share of the quote's words that stand there.")
    text = s.CharField()


class LostLabelSerializer(s.Serializer):
    id = s.IntegerField()
    question = s.IntegerField()
    text = s.CharField()
    document = s.IntegerField(allow_null=True)
    title = s.CharField()
    quote = s.CharField(allow_blank=True)
    suggestion = SuggestionSerializer(allow_null=True)


class LabelPlaceSerializer(s.Serializer):
    document = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
