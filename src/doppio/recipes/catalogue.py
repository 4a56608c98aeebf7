"""The kinds that a recipe can name, with their settings, for editors and menus; and those that were refused."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.branches.kind import BRANCHES
from doppio.core.branches.sparse.settings import ANALYSIS
from doppio.core.chunking.kind import RULES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import REGISTERED, Family, Kind, Setting, refused
from doppio.core.measure.metrics.kind import METRICS
from doppio.core.question.joins.kind import JOINS
from doppio.core.question.kind import SEARCH_TERMS, WORDINGS
from doppio.core.question.settings import QUESTION
from doppio.core.reranking.facts.kind import FACTS
from doppio.core.reranking.kind import SCORERS
from doppio.core.select.answer.kind import ANSWERS
from doppio.core.select.diversity.kind import DIVERSITY
from doppio.core.select.kind import SELECTION
from doppio.core.select.orders.kind import ORDERS
from doppio.core.select.versions.kind import VERSIONS
from doppio.core.select.widening.kind import WIDENING
from doppio.core.suggest.kind import SUGGESTIONS

FAMILIES: tuple[Family[Any], ...] = (
    RULES,
    BRANCHES,
    STRUCTURES,
    METHODS,
    SCORERS,
    FACTS,
    SELECTION,
    SEARCH_TERMS,
    WORDINGS,
    JOINS,
    VERSIONS,
    DIVERSITY,
    WIDENING,
    ORDERS,
    ANSWERS,
    METRICS,
    SUGGESTIONS,
)


class ChoiceSerializer(s.Serializer):
    value = s.CharField()
    title = s.CharField()


class SettingSerializer(s.Serializer):
    """A setting with all that an editor needs to show it."""

    name = s.CharField()
    title = s.CharField()
    type = s.ChoiceField(
        choices=["whole", "number", "choice", "switch", "encoder", "kind", "kinds", "group", "text", "lines", "other"]
    )
    optional = s.BooleanField(help_text="Whether it may be null.")
    required = s.BooleanField(  # type: ignore[assignment]
        help_text="Whether it has no default and must be given."
    )
    default = s.JSONField(allow_null=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)
    choices = ChoiceSerializer(many=True)
    built = s.BooleanField(help_text="Whether something is built anew when it changes.")
    help = s.CharField(allow_blank=True)
    when = s.DictField(
        child=s.ListField(child=s.CharField()), help_text="Values of other settings under which it does anything."
    )
    kinds = s.CharField(allow_blank=True, help_text="The family whose kinds its value is one of.")
    inside = s.ListField(child=s.DictField(), help_text="Settings of an object that is its value, in this form.")


class KindSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    summary = s.CharField(allow_blank=True, help_text="Its settings in a few words, their names in braces.")
    origin = s.CharField(allow_blank=True, help_text="The package that it came with; empty for Doppio's own.")
    facts = s.DictField(help_text="What else kinds of its family say of themselves.")
    settings = SettingSerializer(many=True)


class FamilySerializer(s.Serializer):
    name = s.CharField()
    key = s.CharField(allow_blank=True, help_text="The field of a recipe that holds the name of the kind.")
    common = SettingSerializer(many=True, help_text="Settings that all of its kinds have.")
    kinds = KindSerializer(many=True)


class RefusedSerializer(s.Serializer):
    kind = s.CharField()
    origin = s.CharField()
    reason = s.CharField()


class CatalogueSerializer(s.Serializer):
    families = s.DictField(child=FamilySerializer())
    analysis = SettingSerializer(many=True, help_text="Settings of the analysis of a sparse branch.")
    question = SettingSerializer(many=True, help_text="Settings of what happens before the search.")
    refused = RefusedSerializer(many=True)


class CatalogueView(APIView):
    @extend_schema(responses=CatalogueSerializer, operation_id="catalogue")
    def get(self, request: Request) -> Response:
        """Kinds by family, in the order of menus."""
        return Response(catalogue())


def catalogue() -> dict[str, Any]:
    """All that there is to choose from."""
    return {
        "families": {family.name: _family(family) for family in FAMILIES},
        "analysis": [shown_setting(setting) for setting in ANALYSIS],
        "question": [shown_setting(setting) for setting in QUESTION],
        "refused": [vars(one) for one in refused()],
    }


def _family(family: Family[Any]) -> dict[str, Any]:
    return {
        "name": family.name,
        "key": family.key,
        "common": [shown_setting(setting) for setting in family.common],
        "kinds": [shown_kind(family, kind) for kind in family],
    }


def shown_kind(family: Family[Any], kind: Kind) -> dict[str, Any]:
    """A kind as the API tells it."""
    told = {
        name: getattr(kind, name, None) for name in ("family", "measure", "cut", "everyday", "help", "overlap_in")
    }
    return {
        "name": kind.name,
        "title": kind.title,
        "summary": getattr(kind, "summary", ""),
        "origin": family.origin(kind.name),
        "facts": {name: value for name, value in told.items() if isinstance(value, str | bool)},
        "settings": [shown_setting(setting) for setting in kind.settings],
    }


def shown_setting(setting: Setting) -> dict[str, Any]:
    """A setting as the API tells it."""
    alternatives = setting.schema.get("anyOf", [setting.schema])
    schema = alternatives[0]
    return {
        "name": setting.name,
        "title": setting.title,
        "type": _type(setting, schema),
        "optional": len(alternatives) > 1,
        "required": setting.required,
        "default": setting.default,
        "low": schema.get("minimum"),
        "high": schema.get("maximum"),
        "choices": [{"value": value, "title": title} for value, title in setting.choices.items()],
        "built": setting.built,
        "help": setting.help,
        "when": {name: list(values) for name, values in setting.when.items()},
        "kinds": setting.kinds,
        "inside": [shown_setting(one) for one in setting.inside],
    }


def _type(setting: Setting, schema: dict[str, Any]) -> str:
    if setting.kinds:
        return "kinds" if setting.many else "kind"
    if setting.inside:
        return "group"
    if setting.choices:
        return "choice"
    named = {"integer": "whole", "number": "number", "boolean": "switch"}
    if schema.get("format") in REGISTERED:
        return "text"
    if schema.get("type") == "string" and schema.get("format") in (None, "lines") and "pattern" not in schema:
        return str(schema.get("format", "text"))
    return "encoder" if schema.get("format") == "encoder" else named.get(schema.get("type", ""), "other")
