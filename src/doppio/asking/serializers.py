"""What the API says about recipes, traces and the chunks in them."""

from rest_framework import serializers as s


class RecipeSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    version = s.IntegerField()
    body = s.JSONField()
    note = s.CharField(allow_blank=True)
    in_force = s.BooleanField()
    saved_at = s.DateTimeField()


class NewRecipeSerializer(s.Serializer):
    body = s.JSONField()
    note = s.CharField(allow_blank=True, default="", max_length=300)


class ProblemSerializer(s.Serializer):
    detail = s.CharField()


class AskSerializer(s.Serializer):
    text = s.CharField(max_length=2000)
    recipe = s.IntegerField(required=False, help_text="The recipe in force where it is left out.")


class StageTraceSerializer(s.Serializer):
    """Columns of one stage, best chunk first; `before` and the branch columns only where they apply."""

    stage = s.CharField()
    kind = s.ChoiceField(choices=["branch", "fused", "reranked", "context"])
    measure = s.CharField()
    seconds = s.FloatField()
    chunks = s.ListField(child=s.IntegerField())
    scores = s.ListField(child=s.FloatField())
    kept = s.ListField(child=s.BooleanField())
    reasons = s.ListField(child=s.CharField(allow_blank=True))
    before = s.ListField(child=s.IntegerField(), allow_null=True)
    branch_ranks = s.ListField(child=s.ListField(child=s.IntegerField()), allow_null=True)
    shares = s.ListField(child=s.ListField(child=s.FloatField()), allow_null=True)
    raw = s.ListField(child=s.FloatField(), allow_null=True, help_text="What a joint scorer gave, before blending.")
    raw_measure = s.CharField(allow_blank=True)
    windows = s.ListField(
        child=s.ListField(child=s.IntegerField()), allow_null=True, help_text="Parts that were read; -1 for all."
    )


class TraceSerializer(s.Serializer):
    question = s.CharField()
    recipe = s.CharField()
    tokens = s.IntegerField()
    seconds = s.DictField(child=s.FloatField())
    stages = StageTraceSerializer(many=True)


class RangeSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()


class HostSerializer(s.Serializer):
    """What a nested chunk hands on; offsets of `answers` count code points of its text."""

    start = s.IntegerField()
    end = s.IntegerField()
    text = s.CharField()
    answers = RangeSerializer(many=True)


class TracedChunkSerializer(s.Serializer):
    """A chunk that a trace names; offsets of `answers` count code points of its text."""

    number = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField()
    end = s.IntegerField()
    tokens = s.IntegerField()
    text = s.CharField()
    host = HostSerializer(allow_null=True, help_text="What is handed on instead of the chunk.")
    handed = s.IntegerField(help_text="Tokens of what is handed on.")
    carried = s.DictField(child=s.CharField(), help_text="Fields that are handed on with it.")
    relevant = s.BooleanField()
    answers = RangeSerializer(many=True)


class TermShareSerializer(s.Serializer):
    term = s.CharField()
    chunks = s.IntegerField(help_text="Chunks that hold the term.")
    idf = s.FloatField()
    in_chunk = s.IntegerField()
    share = s.FloatField(help_text="What the term adds to the chunk's score.")


class ExplainedSerializer(s.Serializer):
    chunk = s.IntegerField()
    length = s.FloatField(help_text="What the chunk's length adds; 0 unless the variant has such a share.")
    terms = TermShareSerializer(many=True)
    found = RangeSerializer(many=True, help_text="Where the chunk's text holds one of the terms, in code points.")


class ExplainRequestSerializer(s.Serializer):
    text = s.CharField(max_length=2000)
    chunks = s.ListField(child=s.IntegerField(), max_length=100)
    recipe = s.IntegerField(required=False)


class AskedBeforeSerializer(s.Serializer):
    text = s.CharField()
    asked_at = s.DateTimeField()


class MatchRequestSerializer(s.Serializer):
    text = s.CharField(max_length=2000)
    chunk = s.IntegerField()
    recipe = s.IntegerField(required=False)


class TokenMatchSerializer(s.Serializer):
    token = s.CharField()
    weight = s.FloatField()
    cosine = s.FloatField()
    start = s.IntegerField()
    end = s.IntegerField()
