"""What the API says about labels that lost their place."""

from rest_framework import serializers as s


class SuggestionSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    alike = s.FloatField(help_text="Share of the quote's words that stand there.")
    text = s.CharField()


class LostLabelSerializer(s.Serializer):
    id = s.IntegerField()
    question = s.IntegerField()
    text = s.CharField()
    document = s.IntegerField(allow_null=True)
    title = s.CharField()
    quote = s.CharField(allow_blank=True)
    suggestion = SuggestionSerializer(allow_null=True)


class LabelPlaceSerializer(s.Serializer):
    document = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
