"""What the API says about a dense branch."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer
from doppio.stages.asking import BriefChunkSerializer


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


class FigureSerializer(s.Serializer):
    value = s.FloatField()
    unit = s.CharField(allow_blank=True, help_text="`bytes`, or empty for a count.")
    what = s.CharField()


class DenseStageSerializer(s.Serializer):
    branches = s.ListField(child=s.CharField(), help_text="Ids of the dense branches of the recipe.")
    branch = s.CharField(allow_null=True)
    facts = DenseFactsSerializer(
        allow_null=True, help_text="Null where the kind of the branch has no vector a chunk."
    )
    figures = FigureSerializer(many=True, help_text="What its index is, where the kind says it in figures.")
    measure = s.CharField(allow_blank=True)
    surveys = s.BooleanField(help_text="Whether its speed can be measured against exactness.")
    by_token = s.BooleanField(help_text="Whether it says which tokens of a passage met those of a question.")
    by_patch = s.BooleanField(help_text="Whether it says which patch of a page answers which token.")
    chunks = s.IntegerField()
    settings = s.JSONField(help_text="Its settings in the recipe.")


class PointSerializer(s.Serializer):
    structure = s.JSONField(help_text="A structure with its settings; or settings of the branch, with a `title`.")
    recall = s.FloatField()
    per_second = s.FloatField()
    bytes = s.IntegerField()
    seconds = s.FloatField()
    title = s.CharField(default="", help_text="What was measured; empty where `structure` is a structure's settings.")
    summary = s.CharField(default="")


class SurveySerializer(s.Serializer):
    points = PointSerializer(many=True)
    questions = s.IntegerField()
    measured_at = s.DateTimeField(allow_null=True)
    job = JobSerializer(allow_null=True)


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


class ShadedRequestSerializer(s.Serializer):
    text = s.CharField(max_length=2000, allow_blank=True)
    chunk = s.IntegerField()
    branch = s.CharField()
    recipe = s.IntegerField(required=False)
    picture = s.RegexField(r"^[0-9a-f]{40}\Z", required=False, help_text="The picture that is asked by.")
    share = s.FloatField(required=False, min_value=0, max_value=1, help_text="What it counts beside the words.")


class PatchMatchSerializer(s.Serializer):
    token = s.CharField()
    weight = s.FloatField(help_text="Weights of all tokens add up to 1.")
    best = s.IntegerField(help_text="The patch that it likes best, by its place in the list.")
    cosines = s.ListField(child=s.FloatField(), help_text="With every patch.")


class ShadedSheetSerializer(s.Serializer):
    document = s.IntegerField()
    page = s.IntegerField(help_text="0 where it is a picture.")
    picture = s.IntegerField(help_text="Number of the picture, 0 where it is a page.")
    score = s.FloatField()
    places = s.ListField(
        child=s.ListField(child=s.FloatField(), min_length=4, max_length=4),
        help_text="Left, top, right and bottom of each patch as shares of the page.",
    )
    matches = PatchMatchSerializer(many=True)
