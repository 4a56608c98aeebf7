"""Sweeps: a recipe with some of its settings changed, over and over, and which of them to take."""

import copy
import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import regex
from numpy.typing import NDArray

from doppio.core.errors import RecipeError
from doppio.core.measure.comparing import Difference, Floats, compare

FOLDS = 5
# Successive halving: the share of settings that goes on from a round, and questions of the first.
KEPT, FIRST = 0.5, 30
_STEP = regex.compile(r"([a-z_][a-z0-9_-]*)|\[(\d+)\]")
_RANGE = regex.compile(r"(?P<low>[-+.\de]+)\.\.(?P<high>[-+.\de]+)/(?P<count>\d+)(?P<log> log)?")
Settings = Mapping[str, Any]


@dataclass(frozen=True)
class Axis:
    """A setting of a recipe by its path, such as `branches[0].k1`, and the values that it takes, in their order."""

    path: str
    values: tuple[Any, ...]


@dataclass(frozen=True)
class Chosen:
    """What a sweep would take.

    best : the row of the settings that all questions together speak for
    flattering : their mean over the very questions that they were chosen by
    honest : the mean over questions that had no part in the choice
    against : honest figures against those of the first row, question by question
    picked : of each fold the row that was chosen without it
    """

    best: int
    flattering: float
    honest: float
    against: Difference
    picked: tuple[int, ...]


def axis(text: str) -> Axis:
    """Read `fusion.weights.sparse=0.5,1,2`, `branches[0].k1=0.6..2/8` (even steps) or `...=0.01..1/5 log`.

    Raises
    ------
    RecipeError
        If it is none of these.
    """
    path, sign, told = text.partition("=")
    path, told = path.strip(), told.strip()
    if not sign or not path or not told:
        raise RecipeError(f"{text!r} is not a setting and its values, such as branches[0].k1=0.8,1.2,1.6")
    steps(path)
    spread = _RANGE.fullmatch(told)
    if spread is None:
        return Axis(path, tuple(_value(part.strip()) for part in told.split(",")))
    try:
        low, high, count = float(spread["low"]), float(spread["high"]), int(spread["count"])
    except ValueError as error:
        raise RecipeError(f"{path}: {told!r} is not a range such as 0.6..2/8") from error
    if not 2 <= count <= 1000 or not low < high or (spread["log"] and low <= 0):
        raise RecipeError(
            f"{path}: {told!r} needs a low end below its high one (above 0 for log) and 2 to 1000 values"
        )
    spaced = np.geomspace(low, high, count) if spread["log"] else np.linspace(low, high, count)
    made = [float(f"{value:.6g}") for value in spaced.tolist()]
    whole = all(value.is_integer() for value in made)
    return Axis(path, tuple(int(value) if whole else value for value in made))


def _value(text: str) -> Any:
    if text == "null":
        return None
    if text in ("true", "false"):
        return text == "true"
    for read in (int, float):
        try:
            return read(text)
        except ValueError:
            continue
    return text


def steps(path: str) -> list[str | int]:
    """The parts of a path: `branches[0].k1` is branches, 0, k1.

    Raises
    ------
    RecipeError
        If it is no path.
    """
    found: list[str | int] = []
    at = 0
    while at < len(path):
        if path[at] == "." and found:
            at += 1
        part = _STEP.match(path, at)
        if part is None:
            raise RecipeError(f"{path!r} is no path of a setting, such as branches[0].k1 or fusion.weights.sparse")
        found.append(part[1] if part[1] is not None else int(part[2]))
        at = part.end()
    return found


def changed(body: Mapping[str, Any], settings: Settings) -> dict[str, Any]:
    """A recipe's body with some settings changed.

    Raises
    ------
    RecipeError
        If a path leads nowhere.
    """
    made: dict[str, Any] = copy.deepcopy(dict(body))
    for path, value in settings.items():
        *way, last = steps(path)
        here: Any = made
        for part in way:
            try:
                here = here.setdefault(part, {}) if isinstance(here, dict) else here[part]
            except (KeyError, IndexError, TypeError, AttributeError) as error:
                raise RecipeError(f"{path}: leads nowhere at {part!r}") from error
        try:
            here[last] = value
        except (IndexError, TypeError) as error:
            raise RecipeError(f"{path}: leads nowhere at {last!r}") from error
    return made


def grid(axes: Sequence[Axis]) -> list[dict[str, Any]]:
    """All combinations, the last axis moving first."""
    return [
        dict(zip([one.path for one in axes], values, strict=True))
        for values in itertools.product(*(one.values for one in axes))
    ]


def drawn(axes: Sequence[Axis], count: int, seed: int = 0) -> list[dict[str, Any]]:
    """So many of all combinations by chance, none twice.

    References
    ----------
    .. [1] J. Bergstra, Y. Bengio, "Random search for hyper-parameter optimization", JMLR 13, 2012.
    """
    shape = tuple(len(one.values) for one in axes)
    every = math.prod(shape)
    random = np.random.default_rng(seed)
    wanted = min(count, every)
    taken: set[tuple[int, ...]] = set()
    while len(taken) < wanted:
        taken.add(tuple(int(random.integers(size)) for size in shape))
    return [
        {one.path: one.values[place] for one, place in zip(axes, places, strict=True)} for places in sorted(taken)
    ]


def neighbours(axes: Sequence[Axis], rows: Sequence[Settings]) -> list[list[int]]:
    """Of each row itself and those that are one step away along one axis; one off the axes stands alone."""
    places = [tuple(_place(one, row[one.path]) for one in axes) for row in rows]
    at = {place: number for number, place in enumerate(places) if -1 not in place}
    found = []
    for number, place in enumerate(places):
        near = [number]
        if -1 in place:
            found.append(near)
            continue
        for column, step in itertools.product(range(len(axes)), (-1, 1)):
            other = (*place[:column], place[column] + step, *place[column + 1 :])
            if other in at:
                near.append(at[other])
        found.append(near)
    return found


def _place(one: Axis, value: Any) -> int:
    """Where a value stands on an axis; -1 where it does not. True is not 1 here."""
    same = (own == value and isinstance(own, bool) == isinstance(value, bool) for own in one.values)
    return next((at for at, it in enumerate(same) if it), -1)


def plateau(means: Floats, near: Sequence[Sequence[int]]) -> Floats:
    """Means, each averaged with those of its neighbours: a broad height is worth more than a lone peak."""
    return np.array([means[list(rows)].mean() for rows in near])


def choose(figures: Floats, near: Sequence[Sequence[int]]) -> int:
    """The row whose neighbourhood is best; of equal ones that with the better mean, and the first."""
    means = np.nanmean(figures, axis=1)
    height = plateau(means, near)
    return int(np.lexsort((np.arange(len(means)), -means, -np.round(height, 12)))[0])


def judged(
    figures: Floats, near: Sequence[Sequence[int]], groups: NDArray[np.int64], *, folds: int = FOLDS, seed: int = 0
) -> Chosen:
    """Choose, and say what the choice is worth on questions that had no part in it.

    Parameters
    ----------
    figures : (r, q) float64 array
        A metric of r settings over q questions; the first row is what there is now.
    near : of each row the rows around it, itself included; see `neighbours`
    groups : (q,) int64 array
        Questions of one group are rewordings of each other and are never split.
    folds, seed : int

    Notes
    -----
    For every fold the settings are chosen by the other folds' questions and take their figures on its own.

    References
    ----------
    .. [1] S. Varma, R. Simon, "Bias in error estimation when using cross-validation for model selection", BMC
       Bioinformatics 7, 2006.
    """
    names = np.unique(groups)
    part = np.random.default_rng(seed).permutation(np.arange(len(names)) % max(1, min(folds, len(names))))
    fold = part[np.searchsorted(names, groups)]
    honest = np.full(figures.shape[1], np.nan)
    picked = []
    for left in np.unique(fold).tolist():
        own = fold == left
        row = choose(figures[:, ~own], near) if (~own).any() else 0
        picked.append(row)
        honest[own] = figures[row, own]
    best = choose(figures, near)
    (against,) = compare(np.stack([figures[0], honest]), [(0, 1)], groups=groups)
    return Chosen(best, float(np.nanmean(figures[best])), float(np.nanmean(honest)), against, tuple(picked))


def halving(
    rows: int, questions: int, *, keep: float = KEPT, least: int = FIRST, seed: int = 0
) -> Iterator[NDArray[np.int64]]:
    """Questions of each round of successive halving: few for many settings, all for the last.

    Parameters
    ----------
    rows, questions : int
        How many settings and questions there are.
    keep : float
        The share of settings that goes on from a round.
    least : int
        Questions of the first round.

    Notes
    -----
    Every round has the questions of those before it and as many more, so nothing is asked twice.

    References
    ----------
    .. [1] K. Jamieson, A. Talwalkar, "Non-stochastic best arm identification and hyperparameter optimization",
       AISTATS 2016.
    """
    order = np.random.default_rng(seed).permutation(questions)
    rounds = max(1, int(np.ceil(np.log(max(rows, 1)) / -np.log(keep))))
    sizes = np.geomspace(min(least, questions), questions, rounds).round().astype(int)
    for size in np.unique(np.append(sizes, questions)).tolist():
        yield np.sort(order[:size])
