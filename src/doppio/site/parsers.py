"""JSON as it comes in: what no text or number of ours can be is refused, with its place."""

import math
import re
from collections.abc import Mapping
from typing import Any

from rest_framework.exceptions import ParseError
from rest_framework.parsers import JSONParser

_HALF = re.compile("[\ud800-\udfff]")


class CleanJSONParser(JSONParser):
    """JSON that is not deep, whose texts hold no NUL and no half of a pair, and whose numbers are finite."""

    def parse(
        self, stream: Any, media_type: str | None = None, parser_context: Mapping[str, Any] | None = None
    ) -> Any:
        try:
            found = super().parse(stream, media_type, parser_context)
            _check(found, "")
        except RecursionError as error:
            raise ParseError("The JSON is nested too deeply.") from error
        except ValueError as error:
            raise ParseError(f"JSON parse error: {error}") from error
        return found


def _check(value: Any, where: str) -> None:
    if isinstance(value, str):
        wrong = wrong_character(value)
        if wrong:
            raise ParseError(f"{where or 'the text'}: holds {wrong}")
    elif isinstance(value, float) and not math.isfinite(value):
        raise ParseError(f"{where or 'the number'}: is not finite")
    elif isinstance(value, list):
        for place, item in enumerate(value):
            _check(item, f"{where}[{place}]")
    elif isinstance(value, dict):
        for key, item in value.items():
            _check(key, f"a name in {where}" if where else "a name")
            _check(item, f"{where}.{key}" if where else key)


def wrong_character(text: str) -> str:
    """What in a text cannot be kept in any; empty where all is well."""
    if "\0" in text:
        return "a NUL character"
    return "half of a surrogate pair" if _HALF.search(text) else ""
