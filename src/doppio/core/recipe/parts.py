"""The parts of a recipe that are of a kind, wherever they stand in it."""

from collections.abc import Iterator, Sequence
from typing import Any

from doppio.core.branches.kind import BRANCHES
from doppio.core.chunking.kind import RULES
from doppio.core.fusion.kind import METHODS
from doppio.core.kinds import Family, Setting, family_of
from doppio.core.question.settings import QUESTION
from doppio.core.recipe.recipe import Body
from doppio.core.select.kind import SELECTION

# Of a branch, whatever its kind.
NAMED = "id"


def parts(body: Body) -> Iterator[tuple[str, Family[Any], Body]]:
    """Every part with its path and its family; those inside others come after them."""
    yield from _parts("chunking", RULES, body["chunking"])
    yield from _inside("question", QUESTION, body["question"])
    for place, branch in enumerate(body["branches"]):
        yield from _parts(f"branches[{place}]", BRANCHES, branch)
    yield from _parts("fusion", METHODS, body["fusion"])
    yield from _parts("select", SELECTION, body["select"])


def _parts(path: str, family: Family[Any], told: Body) -> Iterator[tuple[str, Family[Any], Body]]:
    yield path, family, told
    if told.get(family.key) not in family.kinds:
        return
    yield from _inside(path, family.settings_of(family.get(told[family.key])), told)


def _inside(path: str, settings: Sequence[Setting], told: Body) -> Iterator[tuple[str, Family[Any], Body]]:
    """The parts that settings name."""
    for setting in settings:
        inside, place = told.get(setting.name), f"{path}.{setting.name}"
        if setting.kinds and isinstance(inside, dict):
            yield from _parts(place, family_of(setting.kinds), inside)
        if setting.many and isinstance(inside, list):
            for at, one in enumerate(inside):
                yield from _parts(f"{place}[{at}]", family_of(setting.kinds), one)


def without_strangers(body: Body, before: Body) -> None:
    """Take out, of parts that became of another kind, the settings that this one does not have."""
    kinds = {path: told.get(family.key) for path, family, told in parts(before)}
    for path, family, told in list(parts(body)):
        kind = str(told.get(family.key))
        if kind == kinds.get(path) or kind not in family.kinds:
            continue
        known = {family.key, NAMED, *(setting.name for setting in family.settings_of(family.get(kind)))}
        for name in set(told) - known:
            del told[name]
