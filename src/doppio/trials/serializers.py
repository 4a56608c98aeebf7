"""What the API says about trials."""

from rest_framework import serializers as s

from doppio.recipes.serializers import RecipeSerializer


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
    answers = s.DictField(
        child=s.FloatField(),
        help_text="What the answers are worth: f1, exact, holds, cited, silent_right of unanswerable, silent_wrong "
        "of answerable; empty where nothing answers.",
    )
    low = s.FloatField()
    high = s.FloatField()
    measured_at = s.DateTimeField()


class OtherwiseSerializer(s.Serializer):
    path = s.CharField()
    before = s.JSONField(allow_null=True)
    now = s.JSONField(allow_null=True)


class PastTrialSerializer(s.Serializer):
    """What became of a question in a trial, and what was otherwise in the one before."""

    trial = s.IntegerField()
    recipe = s.CharField(help_text="Name and version.")
    measured_at = s.DateTimeField()
    cause = s.CharField()
    ranks = s.DictField(child=s.IntegerField(allow_null=True), help_text="Of the first relevant chunk, by stage.")
    moved = s.BooleanField(help_text="Whether it ended otherwise, or at other ranks.")
    beside = s.CharField(
        allow_null=True, help_text="The recipe of the trial that it is told beside; null for the first."
    )
    ranks_before = s.DictField(child=s.IntegerField(allow_null=True), help_text="In that trial.")
    settings = OtherwiseSerializer(many=True)
    documents = s.BooleanField(help_text="Whether documents had changed.")
    labels = s.BooleanField(help_text="Whether labels had changed, of any question.")
    code = s.BooleanField(help_text="Whether the program, a package or a model was another.")


class DifferenceSerializer(s.Serializer):
    questions = s.IntegerField()
    mean = s.FloatField(help_text="What is gained from the baseline; larger is better.")
    low = s.FloatField(help_text="Of its interval, 95 %.")
    high = s.FloatField()
    p = s.FloatField(help_text="That it is chance, by paired randomisation.")
    wins = s.IntegerField(help_text="Questions on which this one is better.")
    losses = s.IntegerField()
    ties = s.IntegerField()
    sees = s.FloatField(help_text="The smallest true difference that so many questions find in four trials of five.")
    more = s.IntegerField(help_text="How many more questions would find half of that.")


class CellSerializer(s.Serializer):
    mean = s.FloatField(allow_null=True)
    low = s.FloatField(allow_null=True, help_text="Of the interval of the mean, 95 %.")
    high = s.FloatField(allow_null=True)
    questions = s.IntegerField()
    trial = s.IntegerField(allow_null=True)
    current = s.BooleanField(help_text="Whether it was measured on the present documents and labels.")
    best = s.BooleanField()
    near_best = s.BooleanField(help_text="Whether it is the best, or not different from it.")
    difference = DifferenceSerializer(allow_null=True, help_text="From the baseline.")
    holm = s.FloatField(allow_null=True, help_text="p corrected for all recipes of the column, after Holm.")
    said = s.CharField(allow_blank=True, help_text="The difference in words.")


class ColumnSerializer(s.Serializer):
    workspace = s.IntegerField()
    workspace_name = s.CharField()
    set = s.IntegerField(allow_null=True, help_text="One set of questions, or all that are measured.")
    title = s.CharField()
    questions = s.IntegerField()


class ComparedRowSerializer(s.Serializer):
    title = s.CharField()
    recipe = RecipeSerializer(allow_null=True, help_text="Null for a ranking from elsewhere.")
    run = s.IntegerField(allow_null=True, help_text="A ranking from elsewhere.")
    costs = s.DictField(
        child=s.FloatField(),
        help_text="Milliseconds a question, tokens handed on, bytes of indexes, price; none if unknown.",
    )
    cells = CellSerializer(many=True)


class ComparisonSerializer(s.Serializer):
    metric = s.CharField()
    metrics = s.ListField(child=s.CharField(), help_text="All that were measured, question by question.")
    baseline = s.IntegerField(allow_null=True, help_text="A recipe.")
    columns = ColumnSerializer(many=True)
    rows = ComparedRowSerializer(many=True)
    lacking = s.ListField(
        child=s.CharField(), help_text="Recipes measured before figures were kept by question; measure them again."
    )


class ComparedQuestionSerializer(s.Serializer):
    question = s.IntegerField()
    identity = s.CharField()
    text = s.CharField()
    set = s.CharField()
    tags = s.ListField(child=s.CharField())
    before = s.FloatField()
    after = s.FloatField()
    causes = s.ListField(child=s.CharField(), help_text="Where it ended under each recipe.")
    parts = s.CharField(
        allow_blank=True, help_text="The first kind of stage after which its answer is in play under one alone."
    )


class ShareSerializer(s.Serializer):
    kind = s.ChoiceField(choices=["tag", "document", "length", "set"])
    name = s.CharField()
    questions = s.IntegerField()
    before = s.FloatField(help_text="Mean of the figure under the first.")
    after = s.FloatField()
    wins = s.IntegerField(help_text="Questions on which the second is better.")
    losses = s.IntegerField()


class WordingsSerializer(s.Serializer):
    texts = s.ListField(child=s.CharField())
    before = s.ListField(child=s.IntegerField(allow_null=True), help_text="Ranks of the answer; null: not found.")
    after = s.ListField(child=s.IntegerField(allow_null=True))


class SteadinessSerializer(s.Serializer):
    groups = s.IntegerField(help_text="Questions that stand in several wordings.")
    before = s.FloatField(help_text="Mean difference of reciprocal ranks over wordings; smaller is steadier.")
    after = s.FloatField()
    gain = DifferenceSerializer(help_text="Of steadiness, from the first to the second, group by group.")
    said = s.CharField()
    worst = WordingsSerializer(many=True)


class ComparedQuestionsSerializer(s.Serializer):
    first = RecipeSerializer()
    second = RecipeSerializer()
    whole = DifferenceSerializer()
    said = s.CharField()
    shares = ShareSerializer(many=True, help_text="By tag, document, length and set, the largest change first.")
    steadiness = SteadinessSerializer(allow_null=True, help_text="Null where no question has another wording.")
    questions = ComparedQuestionSerializer(many=True)


class NewTrialSerializer(s.Serializer):
    recipe = s.IntegerField()
