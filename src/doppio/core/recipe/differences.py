"""What one recipe says otherwise than another, setting by setting."""

from collections.abc import Iterator
from typing import Any, NamedTuple

# Not a setting.
NAME = "name"
# What names the kind of a part: of another kind all else is another matter.
KINDS = ("kind", "rule", "method", "scorer")


class Otherwise(NamedTuple):
    """A setting by its path, and what both say; None where one of them has no such setting."""

    path: str
    before: Any
    now: Any


def differences(before: dict[str, Any], now: dict[str, Any]) -> list[Otherwise]:
    """The settings in which two checked recipes differ, in the order of the second; where only one has a part, the
    whole part, and of a part that is of another kind its kind alone."""
    return [found for found in _between(before, now, "") if found.path != NAME]


def _between(before: Any, now: Any, path: str) -> Iterator[Otherwise]:
    if isinstance(before, dict) and isinstance(now, dict):
        other = next((key for key in KINDS if key in before and key in now and before[key] != now[key]), None)
        if other is not None:
            yield Otherwise(f"{path}.{other}", before[other], now[other])
            return
        for key in dict.fromkeys([*now, *before]):
            yield from _between(before.get(key), now.get(key), f"{path}.{key}" if path else key)
    elif isinstance(before, list) and isinstance(now, list) and _parts(before) and _parts(now):
        for place in range(max(len(before), len(now))):
            was, told = (one[place] if place < len(one) else None for one in (before, now))
            yield from _between(was, told, f"{path}[{place}]")
    elif before != now:
        yield Otherwise(path, before, now)


def _parts(values: list[Any]) -> bool:
    return all(isinstance(value, dict) for value in values)
