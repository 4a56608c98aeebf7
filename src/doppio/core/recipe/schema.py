"""What may stand in a recipe: the parts that are fixed, and those that kinds declare."""

from collections.abc import Sequence
from typing import Any

from doppio.core.branches.kind import BRANCHES
from doppio.core.chunking.kind import RULES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Family, Schema, Setting, family_of, object_schema
from doppio.core.question.settings import QUESTION
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
    found = _recipe(one_of(RULES), branches, one_of(METHODS), one_of(SELECTION))
    question = found["properties"]["question"]
    whole_question = {**question, "properties": {**question["properties"], **named(QUESTION)}}
    return {**found, "properties": {**found["properties"], "question": whole_question}}


def one_of(family: Family[Any]) -> Schema:
    """Any kind of a family with its settings, and with the kinds that these name."""
    found = []
    for kind in family:
        schema = family.schemas()[kind.name]
        found.append({**schema, "properties": {**schema["properties"], **named(family.settings_of(kind))}})
    return {"oneOf": found}


def named(settings: Sequence[Setting]) -> dict[str, Schema]:
    """Schemas of those settings that name kinds, with all that the kinds take."""
    found: dict[str, Schema] = {}
    for setting in settings:
        if setting.kinds:
            inner = one_of(family_of(setting.kinds))
            found[setting.name] = {**setting.schema, "items": inner} if setting.many else inner
    return found


def question_schema() -> Schema:
    """Schema of the `question` part, without what its kinds take."""
    return object_schema(QUESTION, {})


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
            "question": {**question_schema(), "default": {}},
            "branches": branches,
            "fusion": {**fusion, "default": {"method": FUSED_BY}},
            "rerank": {"anyOf": [rerank_schema(), {"type": "null"}], "default": None},
            "select": {**select, "default": {"rule": SELECTED_BY}},
        },
    }
