"""What is wrong with a JSON value, in words that name the field, what stands there and what is allowed."""

import re
from collections.abc import Iterator
from typing import Any

from jsonschema import Draft202012Validator
from jsonschema.exceptions import ValidationError

from doppio.core.kinds import Schema
from doppio.core.showing import shown

TYPES = {"object": "an object", "array": "a list", "number": "a number", "integer": "a whole number",
         "string": "a text", "boolean": "true or false", "null": "null"}  # fmt: skip


def against(schema: Schema, value: Any, path: str) -> Iterator[str]:
    """Every mistake of a value by a schema, with its path."""
    errors = sorted(Draft202012Validator(schema).iter_errors(value), key=lambda error: list(map(str, error.path)))
    for error in errors:
        yield from _message(error, path)


def _message(error: ValidationError, base: str) -> Iterator[str]:
    rule, wanted, found = error.validator, error.validator_value, error.instance
    path = base
    for step in error.absolute_path:
        path += f"[{step}]" if isinstance(step, int) else f".{step}" if path else str(step)
    schema: Any = error.schema
    if rule == "anyOf":
        # What is wrong is what the alternative of the same type says.
        fitting = [sub for sub in error.context or [] if sub.validator != "type" or len(sub.path)]
        allowed = " or ".join(TYPES[choice["type"]] for choice in wanted)
        if fitting:
            for sub in fitting:
                yield from _message(sub, base)
        else:
            yield f"{path}: {shown(found)} is not {allowed}"
    elif rule == "additionalProperties":
        for key in sorted(set(found) - set(schema["properties"])):
            yield f"{path + '.' if path else ''}{key}: unknown key; allowed are {', '.join(schema['properties'])}"
    elif rule == "required":
        for key in wanted:
            if key not in found and re.search(rf"'{re.escape(key)}'", error.message):
                yield f"{path + '.' if path else ''}{key}: missing"
    elif rule in ("minimum", "maximum"):
        low, high = schema.get("minimum"), schema.get("maximum")
        yield f"{path}: {shown(found)} is not between {low} and {high}"
    elif rule == "enum":
        yield f"{path}: {shown(found)} is not {'one of ' if len(wanted) > 1 else ''}{', '.join(map(str, wanted))}"
    elif rule == "type":
        kinds = [wanted] if isinstance(wanted, str) else wanted
        yield f"{path or 'recipe'}: {shown(found)} is not {' or '.join(TYPES[kind] for kind in kinds)}"
    elif rule == "pattern":
        yield f"{path}: {shown(found)} is not a short name of small letters, digits and hyphens"
    else:
        yield f"{path}: {error.message}"
