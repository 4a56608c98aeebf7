"""What the API says about question sets and labels."""

from rest_framework import serializers as s


class QuestionSetSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    note = s.CharField(allow_blank=True)
    measured = s.BooleanField(help_text="Whether trials ask its questions.")
    questions = s.IntegerField()
    labelled = s.IntegerField(help_text="Those of them that have an answer, or that nothing answers.")


class NewSetSerializer(s.Serializer):
    name = s.CharField(max_length=1000)
    note = s.CharField(max_length=300, allow_blank=True, default="")


class ChangeSetSerializer(s.Serializer):
    """What is left out stays."""

    name = s.CharField(max_length=1000, required=False)
    note = s.CharField(max_length=300, allow_blank=True, required=False)
    measured = s.BooleanField(required=False)


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


class LabelSerializer(s.Serializer):
    id = s.IntegerField()
    question = s.IntegerField()
    document = s.IntegerField(allow_null=True)
    start = s.IntegerField(allow_null=True)
    end = s.IntegerField(allow_null=True)
    grade = s.FloatField()
    judge = s.CharField(allow_null=True, help_text="Who gave it; null where it came with a file.")


class NewLabelSerializer(s.Serializer):
    """A range of a document, or the whole of it where start and end are null."""

    document = s.IntegerField()
    start = s.IntegerField(allow_null=True, default=None)
    end = s.IntegerField(allow_null=True, default=None)
    grade = s.FloatField(default=1, help_text="0 to 3; 0 says that no answer stands there.")


class LabelPlaceSerializer(s.Serializer):
    document = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()


class LabelGradeSerializer(s.Serializer):
    grade = s.FloatField()
