"""What the API says about the mix of branches."""

from rest_framework import serializers as s


class MixPointSerializer(s.Serializer):
    second = s.FloatField(help_text="Weight of the second branch, from 0 to 1; the first has the rest.")
    recall = s.FloatField(help_text="recall@k.")
    rank = s.IntegerField(allow_null=True, help_text="Of a single question: of its first relevant chunk.")


class MixCurveSerializer(s.Serializer):
    method = s.CharField()
    title = s.CharField()
    points = MixPointSerializer(many=True)


class MixSerializer(s.Serializer):
    branches = s.ListField(child=s.CharField())
    families = s.ListField(child=s.CharField())
    k = s.IntegerField()
    questions = s.IntegerField()
    curves = MixCurveSerializer(many=True, help_text="One for each fusion method, of two branches.")
