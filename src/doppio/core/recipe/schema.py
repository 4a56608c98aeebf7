"""What may stand in a recipe: the parts that are fixed, and those that kinds declare."""

from typing import Any

from doppio.core.branches.kind import BRANCHES
from doppio.core.chunking.kind import RULES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Family, Schema, family_of, object_schema
from doppio.core.reranking.kind import COMMON, MOST_SCORERS, SCORER, own_schemas, use_schema
from doppio.core.select.kind import SELECTION

FORMAT = "doppio-recipe/1"
FUSED_BY, SELECTED_BY = "reciprocal-rank", "best-first"
_NAME = {"type": "string", "minLength": 1, "maxLength": 120, "default": "unnamed"}


def outline() -> Schema:
    """A recipe without its parts; what names a kind is checked by the schema of that kind."""
    return _recipe({"type": "object"}, {"type": "array", "minItems": 1, "maxItems": 8}, {"type": "object"},
                   {"type": "object"})  # fmt: skip


def whole() -> Schema:
    """A complete recipe with all kinds that there are, for those who write types from it."""
    branches = {"type": "array", "minItems": 1, "maxItems": 8, "items": one_of(BRANCHES)}
    return _recipe(one_of(RULES), branches, one_of(METHODS), one_of(SELECTION))


def one_of(family: Family[Any]) -> Schema:
    """Any kind of a family with its settings, and with the kinds that these name."""
    found = []
    for kind in family:
        schema = family.schemas()[kind.name]
        inner = {one.name: one_of_named(one.kinds) for one in family.settings_of(kind) if one.kinds}
        found.append({**schema, "properties": {**schema["properties"], **inner}})
    return {"oneOf": found}


def one_of_named(name: str) -> Schema:
    """The same by the family's name."""
    return one_of(family_of(name))


def rerank_schema() -> Schema:
    """Schema of the `rerank` part: what any kind of scorer has, and what some of them can be told besides."""
    known = object_schema(COMMON, {})
    several = {"type": "array", "minItems": 1, "maxItems": MOST_SCORERS, "items": use_schema()}
    named = {"scorer": SCORER, "scorers": several}
    return {**known, "properties": {**named, **known["properties"], **own_schemas()}}


def _recipe(chunking: Schema, branches: Schema, fusion: Schema, select: Schema) -> Schema:
    return {
        "type": "object",
        "additionalProperties": False,
        "required": ["format", "chunking", "branches"],
        "properties": {
            "format": {"enum": [FORMAT]},
            "name": _NAME,
            "chunking": chunking,
            "branches": branches,
            "fusion": {**fusion, "default": {"method": FUSED_BY}},
            "rerank": {"anyOf": [rerank_schema(), {"type": "null"}], "default": None},
            "select": {**select, "default": {"rule": SELECTED_BY}},
        },
    }
