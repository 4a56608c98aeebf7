"""What assistants send and get."""

import base64
from copy import copy
from dataclasses import replace
from typing import Any

from rest_framework import serializers as s

from doppio.core.question.reading import Beside
from doppio.library.pictures import asked, keep_asked
from doppio.library.serializers import FigureInTextSerializer
from doppio.serving.asking import Wanted
from doppio.stages.asked.beside import BesideSerializer, beside_of

LONGEST = 2000
# Signs of base64, four for three bytes.
MOST_PICTURE = 8 << 20
SIGNS = {b"\x89PNG": ".png", b"\xff\xd8": ".jpg", b"RIFF": ".webp"}


class WantedSerializer(BesideSerializer):
    question = s.CharField(max_length=LONGEST, allow_blank=True, help_text="May be empty beside a picture.")
    picture_data = s.CharField(
        required=False, max_length=MOST_PICTURE,
        help_text="A picture to ask by: the bytes of a PNG, JPEG or WebP file in base64.",
    )  # fmt: skip
    k = s.IntegerField(required=False, min_value=1, max_value=100, help_text="Passages at most; the recipe's own k.")
    budget_tokens = s.IntegerField(
        required=False, min_value=1, max_value=1_000_000, help_text="Tokens at most; the recipe's own budget."
    )
    within_ms = s.IntegerField(
        required=False, min_value=1, max_value=30_000,
        help_text="Milliseconds that it may wait for its turn; it is answered 429 where that would be longer.",
    )  # fmt: skip
    trace = s.BooleanField(default=False, help_text="Whether to tell all that was done, stage by stage.")

    def get_fields(self) -> dict[str, s.Field]:
        # They hold nothing but what is declared and whose they are: making each anew would take longer than to check
        # a question with them.
        return {name: copy(field) for name, field in self._declared_fields.items()}

    def validate(self, values: dict[str, Any]) -> dict[str, Any]:
        if not values["question"].strip() and not (values.get("picture") or values.get("picture_data")):
            raise s.ValidationError({"question": "write one, or send a picture with it"})
        return values

    @property
    def wanted(self) -> Wanted:
        values = self.validated_data
        beside: Beside = beside_of(values)
        if values.get("picture_data"):
            beside = replace(beside, picture=asked(keep_asked(*_file(values["picture_data"]))))
        within = values["within_ms"] / 1000 if "within_ms" in values else None
        sent, waited = self.context.get("sent", {}), self.context.get("waited", 0.0)
        return Wanted(values["question"], beside, values.get("k"), values.get("budget_tokens"), within, waited, sent)


def _file(data: str) -> tuple[bytes, str]:
    """The bytes of a picture that was sent, and a name that says what they are."""
    try:
        found = base64.b64decode(data, validate=True)
    except ValueError as error:
        raise s.ValidationError({"picture_data": f"no base64 ({error})"}) from error
    return found, f"picture{next((ending for sign, ending in SIGNS.items() if found.startswith(sign)), '.png')}"


class AnswerWantedSerializer(WantedSerializer):
    stream = s.BooleanField(default=False, help_text="Whether to tell it as it grows, as server-sent events.")


class AnsweringVersionSerializer(s.Serializer):
    name = s.CharField()
    version = s.IntegerField()


class PassageSerializer(s.Serializer):
    """A passage with its citation; offsets count code points of the document's text."""

    number = s.IntegerField(help_text="Its place in the context, from 1; answers cite it by this.")
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    page = s.IntegerField(help_text="0 where the document has no pages.")
    lines = s.ListField(child=s.IntegerField())
    link = s.CharField(allow_blank=True)
    start = s.IntegerField()
    end = s.IntegerField()
    text = s.CharField()
    carried = s.DictField(child=s.CharField())
    figures = FigureInTextSerializer(
        many=True, help_text="Pictures that stand in it; `/serve/NAME/documents/DOCUMENT/figures/NUMBER` has each."
    )
    score = s.FloatField(help_text="Of the best chunk in it; larger is better.")
    likely = s.FloatField(allow_null=True, help_text="Probability that it answers, where a scorer says it.")


class FoundSerializer(s.Serializer):
    request = s.CharField(help_text="Its id, for feedback and logs.")
    recipe = AnsweringVersionSerializer()
    passages = PassageSerializer(many=True)
    written = s.CharField(help_text="The passages as the recipe writes them for an assistant.")
    tokens = s.IntegerField()
    answered = s.FloatField(allow_null=True, help_text="Probability that the corpus answers at all.")
    measure = s.CharField(help_text="What a score is, with its range.")
    seconds = s.DictField(child=s.FloatField(), help_text="By stage; all is the whole question.")
    absent = s.ListField(
        child=s.CharField(), help_text="What of the index did not answer in time; empty where all of it did."
    )
    trace = s.DictField(required=False)


class SentenceSerializer(s.Serializer):
    text = s.CharField()
    cites = s.ListField(child=s.IntegerField(), help_text="Numbers of passages.")


class ServedAnswerSerializer(FoundSerializer):
    sentences = SentenceSerializer(many=True)
    silent = s.CharField(allow_blank=True, help_text="Why nothing was answered; empty where something was.")


class FeedbackSerializer(s.Serializer):
    request = s.CharField(max_length=32)
    thumb = s.ChoiceField(choices=[-1, 0, 1], required=False)
    wrong = s.CharField(required=False, allow_blank=True, max_length=2000, help_text="What is wrong, in words.")
    question = s.CharField(
        required=False, allow_blank=True, max_length=LONGEST, help_text="Its words, where they are not kept here."
    )


class HealthSerializer(s.Serializer):
    name = s.CharField()
    recipe = AnsweringVersionSerializer()
    answers = s.BooleanField(help_text="Whether it answers, or hands passages on.")
    documents = s.IntegerField()
    absent = s.IntegerField(help_text="Documents that changed and are not built yet.")


class ListedSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    title = s.CharField()
    words = s.IntegerField()
    pages = s.IntegerField()


class ReadSectionSerializer(s.Serializer):
    index = s.IntegerField()
    title = s.CharField()
    level = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()


class ReadSerializer(ListedSerializer):
    sections = ReadSectionSerializer(many=True)
    start = s.IntegerField()
    end = s.IntegerField()
    text = s.CharField(help_text="From start to end.")
    figures = FigureInTextSerializer(many=True, help_text="Pictures that stand in it.")
