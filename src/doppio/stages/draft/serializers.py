"""What the API says of a draft."""

from rest_framework import serializers as s

from doppio.stages.asked.beside import BesideSerializer


class DraftRequestSerializer(s.Serializer):
    body = s.JSONField(help_text="A recipe that need not be kept.")
    recipe = s.IntegerField(required=False, help_text="What it is compared with; the one in force if left out.")


class DraftQuestionSerializer(BesideSerializer):
    body = s.JSONField(help_text="A recipe that need not be kept.")
    question = s.IntegerField(required=False)
    text = s.CharField(required=False, max_length=2000, allow_blank=True)


class DraftLevelSerializer(s.Serializer):
    stage = s.CharField()
    kind = s.CharField()
    in_play = s.IntegerField()
    before = s.IntegerField(allow_null=True, help_text="Under the kept recipe, of the same questions.")


class MovedQuestionSerializer(s.Serializer):
    id = s.IntegerField()
    text = s.CharField()
    before = s.CharField()
    now = s.CharField()


class DraftSerializer(s.Serializer):
    """All labelled questions under a draft, as far as a few seconds go; asked again it goes on."""

    questions = s.IntegerField()
    measured = s.IntegerField(help_text="So many of them so far.")
    answerable = s.IntegerField(help_text="Of those measured.")
    seconds = s.FloatField()
    stages = DraftLevelSerializer(many=True)
    delivered = s.IntegerField()
    delivered_before = s.IntegerField(allow_null=True, help_text="Null where the kept recipe is not measured.")
    ledger = s.DictField(child=s.IntegerField())
    coverage = s.FloatField(allow_null=True, help_text="Mean share of the answers' characters in the context.")
    repeats = s.FloatField(
        allow_null=True,
        help_text="How much passages repeat those before them: mean of the largest cosine; null without vectors.",
    )
    tokens = s.FloatField(allow_null=True, help_text="Mean tokens handed on.")
    moved = MovedQuestionSerializer(many=True, help_text="Questions that end otherwise, what is worse first.")
