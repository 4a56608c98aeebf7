"""What a person says beside a question, for this once: conditions, search terms, other wordings, a picture."""

from typing import Any

from rest_framework import serializers as s

from doppio.core.question.conditions import LONGEST
from doppio.core.question.reading import Beside
from doppio.library import pictures

MOST_WORDINGS, MOST_WORDS, HEAVIEST = 8, 60, 100.0


class BesideSerializer(s.Serializer):
    """As parameters of an address, or among the fields of a typed question."""

    only = s.CharField(
        required=False, allow_blank=True, max_length=LONGEST, help_text="Conditions on what may be found."
    )
    words = s.CharField(
        required=False,
        allow_blank=True,
        max_length=4000,
        help_text="Search terms instead of the recipe's, between commas, each with a weight after it unless it is 1.",
    )
    wording = s.ListField(
        required=False, child=s.CharField(max_length=2000), max_length=MOST_WORDINGS, help_text="Other wordings."
    )

    without = s.CharField(
        required=False,
        allow_blank=True,
        max_length=4000,
        help_text="Terms, between commas, that branches which add some leave out.",
    )

    picture = s.RegexField(
        r"^[0-9a-f]{40}\Z", required=False, help_text="A picture to ask by, as the upload of one names it."
    )
    share = s.FloatField(
        required=False, min_value=0, max_value=1,
        help_text="What the picture counts beside the question's words, 0 to 1; 0.5 where it is left out.",
    )  # fmt: skip

    def validate_words(self, text: str) -> dict[str, float]:
        return read_words(text)


def read_words(text: str) -> dict[str, float]:
    """Words with their weights: `gust 1.5, wind`.

    Raises
    ------
    ValidationError
        If there are too many, or a weight is out of range.
    """
    found: dict[str, float] = {}
    for part in text.split(","):
        word, _, last = part.strip().rpartition(" ")
        try:
            weight = float(last) if word else 1.0
        except ValueError:
            word, weight = part.strip(), 1.0
        word = word.strip() or last
        if not word:
            continue
        if not 0 < weight <= HEAVIEST:
            raise s.ValidationError(f"{part.strip()}: a weight is above 0 and at most {HEAVIEST:g}")
        found[word] = weight
    if len(found) > MOST_WORDS:
        raise s.ValidationError(f"{len(found)} search terms; at most {MOST_WORDS}")
    return found


def read_without(text: str) -> frozenset[str]:
    """Terms between commas."""
    return frozenset(part.strip() for part in text.split(",") if part.strip())


def beside_of(values: dict[str, Any]) -> Beside:
    """From validated values."""
    return Beside(
        tuple(values.get("wording", ())),
        values.get("words") or None,
        values.get("only", ""),
        read_without(values.get("without", "")),
        pictures.asked(values["picture"]) if values.get("picture") else None,
        values.get("share", 0.5),
    )
