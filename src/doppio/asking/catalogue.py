"""The kinds that a recipe can name, with their settings, for editors and menus."""

from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.dense.structures.kind import STRUCTURES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Kind

FAMILIES = {"fusion": METHODS, "structures": STRUCTURES}


class SettingSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    default = s.FloatField()
    built = s.BooleanField(help_text="Whether something is built anew when it changes.")


class KindSerializer(s.Serializer):
    name = s.CharField()
    title = s.CharField()
    summary = s.CharField(help_text="Its settings in a few words, their names in braces.")
    settings = SettingSerializer(many=True)


class CatalogueSerializer(s.Serializer):
    fusion = KindSerializer(many=True)
    structures = KindSerializer(many=True)


class CatalogueView(APIView):
    @extend_schema(responses=CatalogueSerializer, operation_id="catalogue")
    def get(self, request: Request) -> Response:
        """Kinds by family, in the order of menus."""
        return Response({name: [shown_kind(kind) for kind in family] for name, family in FAMILIES.items()})


def shown_kind(kind: Kind) -> dict[str, Any]:
    """A kind as the API tells it."""
    return {
        "name": kind.name,
        "title": kind.title,
        "summary": getattr(kind, "summary", ""),
        "settings": [
            {"name": one.name, "title": one.title, "default": one.schema["default"], "built": one.built}
            for one in kind.settings
        ],
    }
