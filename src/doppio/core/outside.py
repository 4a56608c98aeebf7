"""Kinds from packages that are installed beside Doppio, once an administrator has switched their package on.

A package names its kinds as entry points of the group `doppio.kinds`, the family before the dot:
`fusion.first-only = "my_kinds.first_only:KIND"`. `DOPPIO_KINDS` holds the names of the packages that are switched on,
with commas between them. What cannot be used is refused by name, and everything else works.
"""

import os
import threading
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from importlib.metadata import EntryPoint, entry_points
from typing import Any

GROUP, VARIABLE = "doppio.kinds", "DOPPIO_KINDS"


@dataclass(frozen=True)
class Refused:
    """A kind that is not used, and why."""

    kind: str
    origin: str
    reason: str


class _Outside:
    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.stamp = 0
        self.refused: dict[str, Refused] = {}
        self.on: frozenset[str] | None = None
        self.found: Mapping[str, Mapping[str, tuple[Any, str]]] | None = None


_state = _Outside()


def switch_on(packages: Iterable[str] | None) -> None:
    """Use the kinds of these packages and of no others; None goes by the environment again."""
    with _state.lock:
        _state.on = None if packages is None else frozenset(packages)
        _state.found, _state.refused = None, {}
        _state.stamp += 1


def switched_on() -> frozenset[str]:
    """Names of the packages that are switched on."""
    if _state.on is not None:
        return _state.on
    return frozenset(name.strip() for name in os.environ.get(VARIABLE, "").split(",") if name.strip())


def stamp() -> int:
    """A number that changes whenever other packages are switched on."""
    return _state.stamp


def kinds_of(family: str) -> Mapping[str, tuple[Any, str]]:
    """Kinds from outside for a family by name, each with the package that it came with."""
    with _state.lock:
        if _state.found is None:
            _state.found = _loaded(switched_on())
        return _state.found.get(family, {})


def known_families() -> set[str]:
    """Families that packages from outside name."""
    kinds_of("")
    return set(_state.found or ())


def refuse(kind: str, origin: str, reason: str) -> None:
    """Note that a kind is not used."""
    _state.refused[kind] = Refused(kind, origin, reason)


def refused() -> list[Refused]:
    """What is switched on and not used, by name."""
    return [_state.refused[name] for name in sorted(_state.refused)]


def _loaded(on: frozenset[str]) -> Mapping[str, Mapping[str, tuple[Any, str]]]:
    found: dict[str, dict[str, tuple[Any, str]]] = {}
    entries = [entry for entry in entry_points(group=GROUP) if _origin(entry) in on]
    for package in sorted(on - {_origin(entry) for entry in entries}):
        refuse(package, package, f"no package of this name with entry points of the group {GROUP} is installed")
    for entry in sorted(entries, key=lambda entry: entry.name):
        family, _, name = entry.name.partition(".")
        try:
            kind = entry.load()
            own = str(kind.name)
        except Exception as error:  # Whatever a stranger's module does when it is imported must not stop Doppio.
            refuse(entry.name, _origin(entry), f"{entry.value} cannot be loaded ({type(error).__name__}: {error})")
            continue
        if own != name:
            refuse(entry.name, _origin(entry), f"it calls itself {own!r}, its entry point {name!r}")
            continue
        found.setdefault(family, {})[name] = kind, _origin(entry)
    return found


def _origin(entry: EntryPoint) -> str:
    return entry.dist.name if entry.dist else ""
