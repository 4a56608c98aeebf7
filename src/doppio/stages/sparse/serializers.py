"""What the API says about a sparse branch."""

from rest_framework import serializers as s

from doppio.stages.asked.serializers import RangeSerializer


class TermRowSerializer(s.Serializer):
    term = s.CharField()
    chunks = s.IntegerField()
    idf = s.FloatField()


class FieldFactsSerializer(s.Serializer):
    name = s.CharField()
    weight = s.FloatField()
    b = s.FloatField()
    mean = s.FloatField(help_text="Mean terms of the field.")


class SparseFactsSerializer(s.Serializer):
    measure = s.CharField()
    variant = s.CharField()
    fields = FieldFactsSerializer(many=True)  # type: ignore[assignment]
    terms = s.IntegerField()
    entries = s.IntegerField(help_text="Pairs of term and chunk.")
    bytes = s.IntegerField()
    segments = s.IntegerField()
    mean = s.FloatField(help_text="Mean terms of a chunk.")
    adds = s.BooleanField(help_text="Whether the branch adds terms to chunks and questions.")
    lends = s.BooleanField(help_text="Whether pictures of which nothing is said are lent what is said of their like.")
    commonest = TermRowSerializer(many=True)
    codes = TermRowSerializer(many=True)


class SparseStageSerializer(s.Serializer):
    branches = s.ListField(child=s.CharField(), help_text="Ids of the sparse branches of the recipe.")
    branch = s.CharField(allow_null=True)
    facts = SparseFactsSerializer(allow_null=True, help_text="Null where the kind of the branch has no terms.")


class AnalyseSerializer(s.Serializer):
    text = s.CharField(max_length=4000, trim_whitespace=False, allow_blank=True)
    analysis = s.JSONField(required=False, help_text="The recipe's own where it is left out.")


class AnalysedTermSerializer(s.Serializer):
    text = s.CharField()
    kind = s.CharField()
    chunks = s.IntegerField(help_text="Chunks that hold the term.")


class AnalysisStepSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    token = s.CharField()
    folded = s.CharField()
    stopped = s.BooleanField()
    stem = s.CharField(allow_blank=True)
    terms = AnalysedTermSerializer(many=True)


class HardCaseSerializer(s.Serializer):
    one = s.CharField()
    other = s.CharField()
    why = s.CharField()
    meet = s.BooleanField(help_text="Whether one should find the other.")
    shared = s.ListField(child=s.CharField(), help_text="Terms that both have by this analysis.")


class AnalysedSerializer(s.Serializer):
    steps = AnalysisStepSerializer(many=True)
    analysis = s.JSONField()
    languages = s.ListField(child=s.CharField())
    cases = HardCaseSerializer(many=True)


class SynonymsSerializer(s.Serializer):
    text = s.CharField(max_length=26_000_000)
    name = s.CharField(max_length=200, default="synonyms")


class SynonymGroupsSerializer(s.Serializer):
    groups = s.ListField(child=s.ListField(child=s.CharField()))


class TermShareSerializer(s.Serializer):
    term = s.CharField()
    chunks = s.IntegerField(help_text="Chunks that hold the term.")
    idf = s.FloatField()
    in_question = s.FloatField(help_text="Its weight; a word of the question has 1 an occurrence.")
    in_chunk = s.FloatField(help_text="How often the chunk holds it; less than 1 where it was added to the chunk.")
    share = s.FloatField(help_text="What the term adds to the chunk's score.")
    added_to_question = s.BooleanField()
    added_to_chunk = s.BooleanField()


class ExplainedSerializer(s.Serializer):
    chunk = s.IntegerField()
    length = s.FloatField(help_text="What the chunk's length adds; 0 unless the variant has such a share.")
    near = s.FloatField(help_text="What it adds that terms stand near each other; 0 where that is not counted.")
    lent = s.FloatField(
        help_text="What it is lent by pictures that look like one of its own; 0 where that is not done."
    )
    terms = TermShareSerializer(many=True)
    found = RangeSerializer(many=True, help_text="Where the chunk's text holds one of the terms, in code points.")


class ExplainRequestSerializer(s.Serializer):
    text = s.CharField(max_length=2000)
    chunks = s.ListField(child=s.IntegerField(), max_length=100)
    recipe = s.IntegerField(required=False)
    branch = s.CharField(required=False, help_text="A sparse branch by its id; the first where it is left out.")
    words = s.DictField(
        child=s.FloatField(),
        required=False,
        allow_null=True,
        help_text="What was searched by, with weights, where it is not the words of the text.",
    )
    without = s.CharField(required=False, allow_blank=True, max_length=4000, help_text="Added terms to leave out.")


class AddedTermSerializer(s.Serializer):
    term = s.CharField()
    weight = s.FloatField(help_text="What part of an occurrence it counts for.")
