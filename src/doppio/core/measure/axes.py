"""Which settings of a recipe a sweep can move, and values that are worth a first try."""

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from doppio.core import outside
from doppio.core.at_hand import kept
from doppio.core.branches.kind import BRANCHES
from doppio.core.chunking.kind import RULES
from doppio.core.errors import RecipeError
from doppio.core.fusion.kind import METHODS, WEIGHTS
from doppio.core.kinds import Family, Setting, family_of
from doppio.core.measure.sweep_plan import with_settings
from doppio.core.measure.sweeping import axis
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import COMMON
from doppio.core.select.kind import SELECTION

STEPS = (0.25, 0.5, 1, 2, 4)
# A switch or a choice takes all of its values, a name that nobody can guess none.
FEW = 12
KNOWN = 64
_known: dict[tuple[str, int], list["Offer"]] = {}


@dataclass(frozen=True)
class Offer:
    """A setting that can be moved.

    path : as an axis names it
    title : for people, after the part of the recipe that it is in
    now : what it is
    values : a first try, as an axis has them
    built : whether something is built anew for each value
    """

    path: str
    title: str
    now: Any
    values: str
    built: bool


def titles(recipe: Recipe) -> dict[str, str]:
    """What people call the settings that a sweep can move, by path."""
    return {one.path: one.title for one in _offers(recipe.body)}


def offers(recipe: Recipe) -> list[Offer]:
    """Every setting of a recipe that a sweep can move, in the order of the recipe."""
    # Trying every value beside the others takes seconds, and a recipe does not change.
    return kept(_known, (recipe.fingerprint, outside.stamp()), lambda: _fitting(recipe), KNOWN)


def _fitting(recipe: Recipe) -> list[Offer]:
    found = []
    for one in _offers(recipe.body):
        # What is right by itself can still be wrong beside another setting.
        fit = [text for text in one.values.split(",") if _fits(recipe, one.path, text)]
        if len(fit) > 1:
            found.append(replace(one, values=",".join(fit)))
    return found


def _fits(recipe: Recipe, path: str, text: str) -> bool:
    try:
        with_settings(recipe, {path: axis(f"{path}={text}").values[0]})
    except RecipeError:
        return False
    return True


def _offers(body: Mapping[str, Any]) -> Iterator[Offer]:
    yield from _kinds("chunking", "Chunks", RULES, body["chunking"], built=True)
    yield from _of_family("chunking", "Chunks", RULES, body["chunking"], built=True)
    for place, branch in enumerate(body["branches"]):
        yield from _of_family(f"branches[{place}]", branch["id"].capitalize(), BRANCHES, branch)
    fusion = body["fusion"]
    yield from _kinds("fusion", "Fused", METHODS, fusion, built=False)
    for identity, weight in fusion["weights"].items():
        values = _of_number(weight, 0, 1000, whole=False)
        yield Offer(f"fusion.weights.{identity}", f"Fused: weight of {identity}", weight, values, False)
    own = [setting for setting in METHODS.settings_of(METHODS.get(fusion["method"])) if setting is not WEIGHTS]
    yield from _of_settings("fusion", "Fused", own, fusion)
    if body["rerank"]:
        yield from _of_settings("rerank", "Reranked", COMMON, body["rerank"])
        for place, use in enumerate(body["rerank"].get("scorers") or []):
            values = _of_number(use["weight"], 0, 100, whole=False)
            title = f"Reranked: weight of {use['scorer']}"
            yield Offer(f"rerank.scorers[{place}].weight", title, use["weight"], values, False)
    yield from _of_family("select", "Context", SELECTION, body["select"])


def _kinds(path: str, part: str, family: Family[Any], told: Mapping[str, Any], *, built: bool) -> Iterator[Offer]:
    """The kind of a part itself; the present one comes first."""
    now = str(told.get(family.key))
    if now in family.kinds and len(family.kinds) > 1:
        names = [now, *(name for name in family.kinds if name != now)]
        yield Offer(f"{path}.{family.key}", f"{part}: {family.key}", now, ",".join(names), built)


def _of_family(
    path: str, part: str, family: Family[Any], told: Mapping[str, Any], *, built: bool = False
) -> Iterator[Offer]:
    if family.key and told.get(family.key) in family.kinds:
        settings = family.settings_of(family.get(told[family.key]))
    else:
        settings = next((family.settings_of(kind) for kind in family), ())
    yield from _of_settings(path, part, settings, told, built=built)


def _of_settings(
    path: str, part: str, settings: Any, told: Mapping[str, Any], *, built: bool = False
) -> Iterator[Offer]:
    for setting in settings:
        if setting.name not in told or not _applies(setting, told):
            continue
        now, here, title = told[setting.name], f"{path}.{setting.name}", f"{part}: {_lowered(setting.title)}"
        if setting.kinds and isinstance(now, dict):
            yield from _kinds(here, title, family_of(setting.kinds), now, built=built or setting.built)
            yield from _of_family(here, title, family_of(setting.kinds), now, built=built)
        elif setting.inside and isinstance(now, dict):
            yield from _of_settings(here, title, setting.inside, now, built=built or setting.built)
        else:
            values = _values(setting, now)
            if values:
                yield Offer(here, title, now, values, built or setting.built)


def _applies(setting: Setting, told: Mapping[str, Any]) -> bool:
    return all(str(told.get(name)) in allowed for name, allowed in setting.when.items())


def _lowered(title: str) -> str:
    """A title in the middle of a line; one that begins with two capitals or a code stays."""
    return title[:1].lower() + title[1:] if title[1:2].islower() else title


def _values(setting: Setting, now: Any) -> str:
    """A first try; empty where nobody could say one."""
    schema, empty = setting.schema, ""
    if "anyOf" in schema:
        schema, empty = schema["anyOf"][0], "null"
    kind = schema.get("type")
    if kind == "boolean":
        return "true,false"
    if "enum" in schema:
        plain = [value for value in schema["enum"] if isinstance(value, str | int | float)]
        return ",".join(map(_text, plain)) if 1 < len(plain) <= FEW else ""
    if kind not in ("integer", "number"):
        return ""
    low, high = schema.get("minimum", 0), schema.get("maximum", math.inf)
    if isinstance(now, bool) or not isinstance(now, int | float):
        now = _first(low, high)
    found = _of_number(now, low, high, whole=kind == "integer")
    return f"{empty},{found}" if empty else found


def _first(low: float, high: float) -> float:
    """Where to begin with a number that is not set: the middle of a small range, else above its low end."""
    if low < 0:
        return 0.2
    return (low + high) / 2 if high - low <= FEW else max(4 * low, 4)


def _of_number(now: float, low: float, high: float, *, whole: bool) -> str:
    """Some values around a number, within its range."""
    if 0 <= low < high <= 1:
        made = [low + (high - low) * part / 4 for part in range(5)] + [now]
    elif now == 0:
        made = [0.0, *(step * (16 if whole else 1) for step in STEPS)]
    else:
        made = [now * step for step in STEPS]
    made = [round(value) if whole else float(f"{value:.3g}") for value in made]
    kept = sorted({value for value in made if low <= value <= high} | {now})
    return ",".join(map(_text, kept))


def _text(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value).lower() if isinstance(value, bool) else str(value)
