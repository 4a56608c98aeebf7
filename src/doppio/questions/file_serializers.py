"""What the API says about files of questions."""

from dataclasses import fields

from rest_framework import serializers as s

from doppio.core.formats.question_table import Columns

COLUMNS = [one.name for one in fields(Columns)]


class ImportOptionsSerializer(s.Serializer):
    columns = s.DictField(
        child=s.CharField(allow_blank=True), allow_null=True, default=None,
        help_text=f"Which column is what, of {', '.join(COLUMNS)}; guessed by their names where it is left out.",
    )  # fmt: skip
    offsets = s.ChoiceField(
        choices=["given", "canonical"], default="given",
        help_text="Whether offsets count in the text as it was given, or in the text as it is shown.",
    )  # fmt: skip
    set = s.IntegerField(allow_null=True, default=None)
    new_set = s.CharField(
        allow_blank=True, default="", max_length=120, help_text="A set to make where none is named."
    )
    choices = s.DictField(
        child=s.CharField(), default=dict,
        help_text='By key of a doubt: the number of the place that is meant, "all" or "none".',
    )  # fmt: skip
    skip = s.BooleanField(default=False, help_text="Leave out what is wrong, and write the rest.")
    write = s.BooleanField(default=False, help_text="Write; without it the file is looked at.")


class QuestionFileSerializer(s.Serializer):
    file = s.FileField(required=False, help_text="JSONL, CSV, TSV, or TREC topics.")
    qrels = s.FileField(required=False, help_text="TREC judgements on questions of the file or of the workspace.")
    options = s.CharField(required=False, help_text="JSON: columns, offsets, set, new_set, choices, skip, write.")


class WrongLineSerializer(s.Serializer):
    line = s.IntegerField()
    field = s.CharField(allow_blank=True)
    message = s.CharField()


class QuotedAtSerializer(s.Serializer):
    start = s.IntegerField()
    end = s.IntegerField()
    before = s.CharField(allow_blank=True)
    after = s.CharField(allow_blank=True)


class DoubtSerializer(s.Serializer):
    key = s.CharField()
    line = s.IntegerField()
    question = s.CharField()
    document = s.CharField()
    quote = s.CharField()
    places = QuotedAtSerializer(many=True)
    chosen = s.CharField(allow_blank=True)


class SampleSerializer(s.Serializer):
    line = s.IntegerField()
    text = s.CharField()
    tags = s.ListField(child=s.CharField())
    labels = s.IntegerField()
    known = s.BooleanField(help_text="Whether the set has the question already.")
    unanswerable = s.BooleanField()


class WrittenSerializer(s.Serializer):
    questions = s.IntegerField()
    labels = s.IntegerField()


class ColumnsSerializer(s.Serializer):
    question = s.CharField(allow_blank=True)
    id = s.CharField(allow_blank=True)
    document = s.CharField(allow_blank=True)
    quote = s.CharField(allow_blank=True)
    start = s.CharField(allow_blank=True)
    end = s.CharField(allow_blank=True)
    grade = s.CharField(allow_blank=True)
    tags = s.CharField(allow_blank=True)
    group = s.CharField(allow_blank=True)
    unanswerable = s.CharField(allow_blank=True)


class QuestionsSeenSerializer(s.Serializer):
    """What a file holds; counts are of what would be written, or was."""

    form = s.ChoiceField(choices=["jsonl", "table", "topics", "judgements"])
    names = s.ListField(child=s.CharField(), help_text="The columns of a table.")
    columns = ColumnsSerializer()
    questions = s.IntegerField(help_text="New ones.")
    known = s.IntegerField(help_text="Questions that the set has already.")
    labels = s.IntegerField(help_text="New ones.")
    known_labels = s.IntegerField()
    waiting = s.IntegerField(help_text="New questions without a label.")
    unanswerable = s.IntegerField()
    wrong_count = s.IntegerField()
    wrong = WrongLineSerializer(many=True)
    doubt_count = s.IntegerField()
    doubts = DoubtSerializer(many=True)
    samples = SampleSerializer(many=True)
    set = s.IntegerField(allow_null=True)
    written = WrittenSerializer(allow_null=True)
