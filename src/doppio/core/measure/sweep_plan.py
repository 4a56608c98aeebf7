"""What a sweep tries: the settings beside those of the recipe as it is, each a recipe of its own."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from doppio.core.errors import RecipeError
from doppio.core.measure.sweeping import Axis, Settings, axis, changed, drawn, grid, steps
from doppio.core.recipe.check import check
from doppio.core.recipe.parts import without_strangers
from doppio.core.recipe.recipe import Recipe

GRID, RANDOM, HALVING = "grid", "random", "halving"
WAYS = (GRID, RANDOM, HALVING)
MOST = 2_000


@dataclass(frozen=True)
class Plan:
    """What is tried.

    axes : in the order in which they were given
    by : grid, random or halving
    rows : settings by their paths; those of the recipe as it is come first
    recipes : of each row
    """

    axes: tuple[Axis, ...]
    by: str
    rows: tuple[dict[str, Any], ...]
    recipes: tuple[Recipe, ...]


def plan(base: Recipe, told: Sequence[str], *, by: str = GRID, most: int = 50, seed: int = 0) -> Plan:
    """Plan a sweep.

    Parameters
    ----------
    base : Recipe
        What is changed.
    told : sequence of str
        Axes, as `axis` reads them.
    by : str
        Every combination, some of them by chance, or every combination with few questions at first.
    most : int
        How many are drawn by chance.
    seed : int
        Of the draw.

    Raises
    ------
    RecipeError
        If there are no axes or too many settings, or if one of them is no recipe.
    """
    if by not in WAYS:
        raise RecipeError(f"by: {by!r} is none of {', '.join(WAYS)}")
    axes = tuple(_axis(text) for text in told)
    paths = [one.path for one in axes]
    if not axes:
        raise RecipeError("axis: a sweep needs a setting and its values, such as branches[0].k1=0.8,1.2,1.6")
    if len(set(paths)) < len(paths):
        raise RecipeError(f"axis: {max(paths, key=paths.count)} is given twice")
    count = math.prod(len(one.values) for one in axes)
    if by != RANDOM and count > MOST:
        raise RecipeError(f"axis: {count:,} settings are more than {MOST:,}; draw some of them at random")
    if not 1 <= most <= MOST:
        raise RecipeError(f"most: {most} is not between 1 and {MOST:,}")
    every = drawn(axes, most, seed) if by == RANDOM else grid(axes)
    now = {one.path: value_at(base, one.path) for one in axes}
    rows = (now, *(row for row in every if row != now))
    return Plan(axes, by, rows, tuple(with_settings(base, row) for row in rows))


def _axis(text: str) -> Axis:
    try:
        return axis(text)
    except RecipeError as error:
        raise RecipeError(f"axis: {error}") from error


def value_at(recipe: Recipe, path: str) -> Any:
    """A setting of a recipe by its path.

    Raises
    ------
    RecipeError
        If the recipe has none such.
    """
    here: Any = recipe.body
    for part in steps(path):
        try:
            here = here[part]
        except (KeyError, IndexError, TypeError) as error:
            raise RecipeError(f"axis: {path}: the recipe has no such setting") from error
    return here


def with_settings(base: Recipe, row: Settings) -> Recipe:
    """A recipe with some settings changed; a part that becomes of another kind loses what that has no use for.

    Raises
    ------
    RecipeError
        If that is no recipe; names the settings.
    """
    try:
        body = changed(base.body, row)
        without_strangers(body, base.body)
        return check(body)
    except RecipeError as error:
        told = ", ".join(f"{path}={value}" for path, value in row.items())
        raise RecipeError(f"axis: {told}: {error}") from error
