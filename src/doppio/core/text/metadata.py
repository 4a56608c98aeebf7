"""What a document says of itself: any keys, each value a text, a number, a date or a list of texts."""

import math
from collections.abc import Mapping
from datetime import date, datetime
from typing import Any

import regex

from doppio.core.text.canonical import canonical

TEXT, NUMBER, DATE, LIST = "text", "number", "date", "list"
Value = str | int | float | list[str]
LONGEST = 2000
_DATE = regex.compile(r"\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:Z|[+-]\d{2}:?\d{2})?)?")
_NUMBER = regex.compile(r"[+-]?(?:0|[1-9]\d{0,14})(?:\.\d+)?")


def typed(values: Mapping[Any, Any]) -> dict[str, Value]:
    """Metadata from anything that a format yields; keys without a value are left out."""
    found = {}
    for key, value in values.items():
        name = " ".join(canonical(str(key)).split())[:120]
        kept = _value(value)
        if name and kept not in ("", [], None):
            found[name] = kept
    return found


def kind_of(value: Value) -> str:
    """The type of a kept value: a text that is an ISO 8601 date or date and time is a date."""
    if isinstance(value, list):
        return LIST
    if isinstance(value, int | float):
        return NUMBER
    return DATE if _DATE.fullmatch(value) else TEXT


def read_number(text: str) -> int | float | None:
    """The number that a text is, written plainly; None for any other text, codes with leading zeros among them."""
    if not _NUMBER.fullmatch(text):
        return None
    return float(text) if "." in text else int(text)


def _value(value: Any) -> Value | None:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int | float):
        return value if math.isfinite(value) else None
    if isinstance(value, datetime | date):
        return value.isoformat()
    if isinstance(value, list | tuple | set):
        return [text for text in (_text(item) for item in value) if text]
    if isinstance(value, Mapping):
        return [f"{_text(key)}: {_text(item)}" for key, item in value.items()]
    text = _text(value)
    number = read_number(text)
    return text if number is None else number


def _text(value: Any) -> str:
    return "" if value is None else " ".join(canonical(str(value)).split())[:LONGEST]
