"""Every answer of the API is what the schema tells: looked at in all tests of the server."""

import json
import re
from collections import Counter
from functools import cache
from threading import current_thread, main_thread
from typing import Any

from jsonschema import Draft4Validator
from referencing import Registry, Resource
from referencing.jsonschema import DRAFT4

from doppio.core import outside

LOOKED_AT = 4
# What parts of the schema are named by: all operations share them.
WHOLE = "doppio:schema"


class AnswersAsTold:
    """Middleware of the tests: an answer whose body or status the schema does not name is an error."""

    seen: set[str] = set()
    times: Counter[str] = Counter()

    def __init__(self, get_response: Any) -> None:
        self._get_response = get_response

    def __call__(self, request: Any) -> Any:
        response = self._get_response(request)
        match = request.resolver_match
        if not request.path.startswith(("/api/", "/serve/")) or request.path == "/api/schema" or match is None:
            return response
        path = "/" + re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", match.route)
        operation = schema()["paths"].get(path, {}).get(request.method.lower())
        if operation is None or response.status_code >= 500:
            return response
        AnswersAsTold.seen.add(operation["operationId"])
        if current_thread() is not main_thread():
            # A page in a browser asks the same again and again; what it asks is looked at in full by other tests.
            AnswersAsTold.times[operation["operationId"]] += 1
            if AnswersAsTold.times[operation["operationId"]] > LOOKED_AT:
                return response
        wrong = mistakes(operation, response)
        if wrong:
            raise AssertionError(f"{request.method} {path} answered {response.status_code}: {'; '.join(wrong[:5])}")
        return response


def mistakes(operation: dict[str, Any], response: Any) -> list[str]:
    """What an answer has that the schema does not tell."""
    told = operation["responses"].get(str(response.status_code))
    if told is None:
        return [f"the schema names {', '.join(operation['responses'])}"]
    if response.streaming:
        return _of_another_kind(told, response)
    shape = told.get("content", {}).get("application/json", {}).get("schema")
    if shape is None:
        empty = not response.streaming and not response.content
        return [] if empty or not told.get("content") else _of_another_kind(told, response)
    if not response.content:
        return ["there is no body"]
    validator = _validator(json.dumps(shape, sort_keys=True), outside.stamp())
    errors = validator.iter_errors(json.loads(response.content))
    return [f"{'.'.join(map(str, error.absolute_path))}: {error.message[:200]}" for error in errors]


def _of_another_kind(told: dict[str, Any], response: Any) -> list[str]:
    kind = response.headers["Content-Type"].split(";")[0]
    return [] if kind in told["content"] else [f"{kind} is not {', '.join(told['content'])}"]


def operations() -> dict[str, tuple[str, str]]:
    """Method and path of every operation by its id."""
    return {
        operation["operationId"]: (method, path)
        for path, methods in schema()["paths"].items()
        for method, operation in methods.items()
    }


def schema() -> dict[str, Any]:
    """The schema as the server tells it now: packages that are switched on bring kinds."""
    return _schema_with(outside.stamp())


@cache
def _schema_with(stamp: int) -> dict[str, Any]:
    from drf_spectacular.generators import SchemaGenerator

    return json.loads(json.dumps(SchemaGenerator().get_schema(request=None, public=True), default=str))


@cache
def _validator(shape: str, stamp: int) -> Draft4Validator:
    return Draft4Validator(_plain(json.loads(shape)), registry=_parts(stamp))


@cache
def _parts(stamp: int) -> Registry[Any]:
    whole = {"components": _plain(_schema_with(stamp)["components"])}
    return Registry().with_resource(WHOLE, Resource.from_contents(whole, default_specification=DRAFT4))


def _plain(schema: Any) -> Any:
    """As JSON Schema: OpenAPI 3.0 says null by a word of its own, and parts are those of the whole."""
    if isinstance(schema, list):
        return [_plain(part) for part in schema]
    if not isinstance(schema, dict):
        return schema
    found = {name: _plain(part) for name, part in schema.items()}
    if isinstance(named := found.get("$ref"), str):
        found["$ref"] = WHOLE + named
    if found.pop("nullable", False):
        return {"anyOf": [found, {"type": "null"}]}
    return found
