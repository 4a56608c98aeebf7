"""What the API says about indexes: their facts, structures measured, neighbours, the map, analysis, cost."""

from rest_framework import serializers as s

from doppio.indexing.serializers import JobSerializer


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
    commonest = TermRowSerializer(many=True)
    codes = TermRowSerializer(many=True)


class DenseFactsSerializer(s.Serializer):
    encoder = s.CharField()
    title = s.CharField()
    warning = s.CharField(allow_blank=True)
    max_tokens = s.IntegerField()
    dimension = s.IntegerField()
    metric = s.CharField()
    measure = s.CharField()
    structure = s.JSONField()
    chunks = s.IntegerField()
    segments = s.IntegerField()
    vector_bytes = s.IntegerField()
    structure_bytes = s.IntegerField(help_text="Of the structure beside the full vectors.")
    disk_bytes = s.IntegerField()
    seconds = s.FloatField(allow_null=True, help_text="What the build of the recipe took that made the vectors.")
    nearest = s.ListField(child=s.FloatField(), help_text="Share of chunks by cosine to the nearest, in tenths.")


class IndexesSerializer(s.Serializer):
    sparse = SparseFactsSerializer(allow_null=True)
    dense = DenseFactsSerializer(allow_null=True)


class PointSerializer(s.Serializer):
    structure = s.JSONField()
    recall = s.FloatField()
    per_second = s.FloatField()
    bytes = s.IntegerField()
    seconds = s.FloatField()


class SurveySerializer(s.Serializer):
    points = PointSerializer(many=True)
    questions = s.IntegerField()
    measured_at = s.DateTimeField(allow_null=True)
    job = JobSerializer(allow_null=True)


class BriefChunkSerializer(s.Serializer):
    number = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField()
    text = s.CharField()


class NeighbourSerializer(BriefChunkSerializer):
    score = s.FloatField()


class NeighboursSerializer(s.Serializer):
    chunk = BriefChunkSerializer()
    measure = s.CharField()
    nearest = NeighbourSerializer(many=True)


class VectorMapSerializer(s.Serializer):
    """Chunks on the two principal axes, as columns."""

    shares = s.ListField(child=s.FloatField(), help_text="Share of the variance along each axis.")
    chunks = s.ListField(child=s.IntegerField())
    documents = s.ListField(child=s.IntegerField(), help_text="Position of each chunk's document in the corpus.")
    x = s.ListField(child=s.FloatField())
    y = s.ListField(child=s.FloatField())
    question = s.ListField(child=s.FloatField(), allow_null=True)
    hits = s.ListField(child=s.IntegerField())
    answers = s.ListField(child=s.IntegerField())
    total = s.IntegerField()


class PairSerializer(s.Serializer):
    one = BriefChunkSerializer()
    other = BriefChunkSerializer()
    cosine = s.FloatField()


class PairsSerializer(s.Serializer):
    count = s.IntegerField(allow_null=True, help_text="All pairs; null where there are too many chunks to compare.")
    up_to = s.IntegerField(help_text="Chunks up to which all pairs are compared while one waits.")
    above = s.FloatField()
    pairs = PairSerializer(many=True)


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


class EncoderSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    dimension = s.IntegerField(allow_null=True)
    max_tokens = s.IntegerField(allow_null=True)
    made_for = s.CharField()
    warning = s.CharField(allow_blank=True)
    remote = s.BooleanField()


class RecipeBodySerializer(s.Serializer):
    body = s.JSONField()


class CostStepSerializer(s.Serializer):
    title = s.CharField()
    chunks = s.IntegerField()
    tokens = s.IntegerField()
    seconds = s.FloatField()
    bytes = s.FloatField()


class CostSerializer(s.Serializer):
    cut = s.IntegerField(help_text="Chunks that have yet to be cut, about.")
    steps = CostStepSerializer(many=True)
    seconds = s.FloatField()
    disk_bytes = s.IntegerField()
    memory_bytes = s.IntegerField(help_text="What the build holds at most beside the models.")
    remarks = s.ListField(child=s.CharField(), help_text="Settings that cannot do what they say.")
