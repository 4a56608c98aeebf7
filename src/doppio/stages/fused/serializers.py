"""What the API says about the mix of branches."""

from rest_framework import serializers as s

from doppio.jobs.serializers import JobSerializer
from doppio.trials.serializers import DifferenceSerializer


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


class BranchWeightSerializer(s.Serializer):
    branch = s.CharField()
    weight = s.FloatField(help_text="To be taken into a recipe as it is.")
    share = s.FloatField(help_text="Of all weights, 0 to 1.")
    low = s.FloatField(help_text="Of the share, in 95 of 100 samples of such questions.")
    high = s.FloatField()


class MixFigureSerializer(s.Serializer):
    metric = s.CharField(help_text="Of the fused list.")
    today = s.FloatField()
    flattering = s.FloatField(help_text="On the very questions that the weights were fitted to.")
    honest = s.FloatField(help_text="On questions that neither weights nor choice have seen.")
    against = DifferenceSerializer(help_text="The honest figure from that of today.")
    said = s.CharField()


class FittedMixSerializer(s.Serializer):
    settings = s.DictField(help_text="`fusion` of a recipe, without weights and depth.")
    method = s.CharField()
    today = s.DictField(child=s.FloatField(), help_text="The weights that were begun from.")
    weights = BranchWeightSerializer(many=True)
    figures = MixFigureSerializer(many=True)
    questions = s.IntegerField()
    told = s.IntegerField(help_text="Those with an answer among what the branches found.")
    same = s.IntegerField(help_text="Folds of five that chose the same method.")
    current = s.BooleanField(help_text="Whether it stands for the present documents and labels.")
    measured_at = s.DateTimeField()


class FusionFitSerializer(s.Serializer):
    fit = FittedMixSerializer(allow_null=True)
    job = JobSerializer(allow_null=True)
