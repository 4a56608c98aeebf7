"""What the API says about questions, the line and trials."""

from rest_framework import serializers as s

from doppio.asking.serializers import ExplainedSerializer, RecipeSerializer, TracedChunkSerializer, TraceSerializer
from doppio.indexing.serializers import IndexSerializer, JobSerializer, TermRowSerializer
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
    cause = s.CharField(allow_null=True, help_text="Row of the ledger; null before the first trial.")
    ranks = s.DictField(child=s.IntegerField(allow_null=True), help_text="Rank of the first relevant chunk a stage.")
    intact = s.BooleanField(allow_null=True)


class AskedSerializer(s.Serializer):
    """One question through the pipeline: `question` is null for a typed one."""

    question = QuestionRowSerializer(allow_null=True)
    spans = SpanSerializer(many=True)
    trace = TraceSerializer()
    cause = s.CharField(allow_null=True)
    in_play = s.DictField(child=s.BooleanField())
    ranks = s.DictField(child=s.IntegerField(allow_null=True))
    chunks = TracedChunkSerializer(many=True)
    explained = ExplainedSerializer(many=True)


class StageLevelSerializer(s.Serializer):
    stage = s.CharField()
    kind = s.CharField()
    in_play = s.IntegerField(allow_null=True)
    lost = s.IntegerField(allow_null=True, help_text="Lost since the stage before.")
    facts = s.ListField(child=s.CharField())


class LineSerializer(s.Serializer):
    recipe = RecipeSerializer()
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


class CutAnswerSerializer(s.Serializer):
    question = s.IntegerField()
    text = s.CharField()
    title = s.CharField()
    length = s.IntegerField(help_text="Characters of the answer.")
    pieces = s.IntegerField(help_text="Chunks that hold a part of it.")
    best = s.FloatField(help_text="Largest part of it in one chunk.")


class ChunkStageSerializer(s.Serializer):
    count = s.IntegerField()
    median = s.FloatField()
    p95 = s.FloatField()
    longest = s.IntegerField()
    limit = s.IntegerField(help_text="Tokens that the encoder reads.")
    over_limit = s.IntegerField()
    overlap = s.FloatField(help_text="Share of the text that is stored twice.")
    spans = s.IntegerField()
    intact = s.IntegerField()
    bins = LengthBinSerializer(many=True)
    cut = CutAnswerSerializer(many=True)


class IndexesSerializer(s.Serializer):
    indexes = IndexSerializer(many=True)
    terms = s.IntegerField(allow_null=True)
    commonest = TermRowSerializer(many=True)
    codes = TermRowSerializer(many=True)
    encoder = s.CharField(allow_null=True)
    encoder_tokens = s.IntegerField(allow_null=True)
    nearest = s.ListField(
        child=s.FloatField(), help_text="Cosine of each chunk to its nearest other chunk, by tenths."
    )
