"""What the API says about reranking."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer

MOST_PASSAGES, LONGEST = 100, 20_000


class FloorQuestionSerializer(s.Serializer):
    """The shortlist of one question, best first."""

    id = s.IntegerField()
    answerable = s.BooleanField()
    scores = s.ListField(child=s.FloatField())
    relevant = s.ListField(child=s.BooleanField())
    answered = s.FloatField(allow_null=True, help_text="Probability that anything answers.")
    delivered = s.BooleanField(help_text="Whether an answer comes through where nothing is left empty.")


class PromiseSerializer(s.Serializer):
    most = s.FloatField(help_text="The share of right answers that may be lost.")
    confidence = s.FloatField()
    floor = s.FloatField(allow_null=True, help_text="The highest that keeps it; null where nothing can be promised.")
    lost = s.IntegerField(help_text="Right answers under it among those that it was chosen by.")
    questions = s.IntegerField()
    needs = s.IntegerField(help_text="Questions without a loss that would be enough for a promise.")
    empty = s.IntegerField(help_text="Unanswerable questions that it leaves empty.")


class FloorSerializer(s.Serializer):
    k = s.IntegerField(help_text="How many go on at most.")
    floor = s.FloatField(allow_null=True)
    measure = s.CharField(allow_blank=True)
    calibrated = s.BooleanField()
    questions = FloorQuestionSerializer(many=True)
    promises = PromiseSerializer(many=True)


class DepthPointSerializer(s.Serializer):
    depth = s.IntegerField()
    recall = s.DictField(child=s.FloatField(), help_text="recall@k by k.")
    seconds = s.FloatField(help_text="Mean time to score one question's shortlist.")


class DepthsSerializer(s.Serializer):
    points = DepthPointSerializer(many=True)
    questions = s.IntegerField()
    measured_at = s.DateTimeField(allow_null=True)
    shortlist = s.IntegerField(allow_null=True)
    cutoffs = s.ListField(child=s.IntegerField())
    job = JobSerializer(allow_null=True)


class FittedWeightSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    weight = s.FloatField(help_text="Of the standardised value; above 0 speaks for an answer.")
    start = s.FloatField(help_text="What it counts today.")


class FittedFiguresSerializer(s.Serializer):
    mrr = s.FloatField()

    def get_fields(self) -> dict[str, s.Field]:
        return {**super().get_fields(), **{f"hit@{k}": s.FloatField() for k in (1, 3, 5)}}


class FittedVersionSerializer(s.Serializer):
    name = s.CharField(help_text="As recipes name it.")
    version = s.IntegerField()
    recipe = s.CharField(allow_blank=True, help_text="What it was fitted on.")
    made_at = s.DateTimeField()
    weights = FittedWeightSerializer(many=True)
    questions = s.IntegerField()
    answered = s.IntegerField(help_text="Questions with an answer in their shortlists.")
    today = FittedFiguresSerializer(help_text="Of shortlists by today's order.")
    fitted = FittedFiguresSerializer(help_text="By weights that had not seen the question.")
    p = s.FloatField(help_text="Of the difference of reciprocal ranks, by paired randomisation.")
    better = s.IntegerField()
    worse = s.IntegerField()


class FitSerializer(s.Serializer):
    versions = FittedVersionSerializer(many=True)
    job = JobSerializer(allow_null=True)


class ScorerSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    kind = s.CharField()
    max_tokens = s.IntegerField(allow_null=True)
    blend = s.FloatField(help_text="Share of the first stage's score where a recipe says nothing.")
    window = s.IntegerField(allow_null=True, help_text="Tokens that it reads best at once; null for a whole passage.")
    calibrated = s.BooleanField()
    answerable = s.BooleanField(help_text="Whether it says how likely a question is answered at all.")
    fitted = s.BooleanField(help_text="Whether it weighs scorers and facts, whose parts are shown.")
    shipped = s.BooleanField(help_text="Whether it came with the product, and is not of one workspace.")
    remote = s.BooleanField()
    by_token = s.BooleanField(help_text="Whether it says which tokens of a passage met those of the question.")
    alone = s.BooleanField(help_text="Whether it scores passages that are in no corpus.")


class TrySerializer(s.Serializer):
    scorer = s.CharField(max_length=64)
    question = s.CharField(max_length=2000)
    passages = s.ListField(child=s.CharField(max_length=LONGEST), min_length=1, max_length=MOST_PASSAGES)


class TriedRowSerializer(s.Serializer):
    position = s.IntegerField(help_text="In the order given, from 1.")
    score = s.FloatField()
    probability = s.FloatField(allow_null=True)
    rank = s.IntegerField()
    cosine = s.FloatField(help_text="Of vectors made apart from each other.")
    cosine_rank = s.IntegerField()
    window = s.ListField(child=s.IntegerField(), allow_null=True, help_text="The part that was read; null for all.")


class TriedSerializer(s.Serializer):
    scorer = s.CharField()
    measure = s.CharField()
    rows = TriedRowSerializer(many=True)


class RestsOnSerializer(s.Serializer):
    scorer = s.CharField(max_length=64)
    question = s.CharField(max_length=2000)
    passage = s.CharField(max_length=LONGEST)
    around = s.ListField(
        child=s.CharField(max_length=1000, allow_blank=True), max_length=50, required=False,
        help_text="Title and headings, from the outermost in, that stood before what was read.",
    )  # fmt: skip


class SentenceDropSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    drop = s.FloatField(help_text="By how much the score drops without it.")


class MatchRequestSerializer(s.Serializer):
    text = s.CharField(max_length=2000)
    chunk = s.IntegerField()
    recipe = s.IntegerField(required=False)
    branch = s.CharField(required=False, help_text="A branch that matches tokens; the scorer where left out.")


class TokenMatchSerializer(s.Serializer):
    token = s.CharField()
    weight = s.FloatField()
    cosine = s.FloatField()
    start = s.IntegerField()
    end = s.IntegerField()
