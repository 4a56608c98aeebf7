"""A recipe in the schema of the API: with all kinds that there are, so that types can be made of it."""

from typing import Any

from drf_spectacular.extensions import OpenApiSerializerFieldExtension
from rest_framework import serializers as s

from doppio.core.recipe.schema import whole


class RecipeField(s.JSONField):
    """A recipe as a JSON document; what is left out has its default, and checks tell what is wrong."""


class RecipeInSchema(OpenApiSerializerFieldExtension):
    """Tells the schema what a recipe is when it is asked for, since packages may have brought kinds."""

    target_class = RecipeField

    def get_name(self) -> str:
        return "RecipeDocument"

    def map_serializer_field(self, auto_schema: Any, direction: str) -> dict[str, Any]:
        return in_openapi(whole())


def in_openapi(schema: Any) -> Any:
    """A JSON schema in the words of OpenAPI 3.0, which says null otherwise and wants the items of every list."""
    if isinstance(schema, list):
        return [in_openapi(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    choices = schema.get("anyOf")
    if choices and {"type": "null"} in choices:
        rest = [choice for choice in choices if choice != {"type": "null"}]
        outer = {name: value for name, value in schema.items() if name != "anyOf"}
        return in_openapi({**rest[0], **outer, "nullable": True}) if len(rest) == 1 else schema
    found = {name: in_openapi(part) for name, part in schema.items()}
    if found.get("type") == "null":
        return {"type": "object", "additionalProperties": False, "nullable": True}
    if found.get("type") == "array":
        found.setdefault("items", {})
    return found
