"""How steady a recipe is: one question in several wordings should find its answer at much the same rank."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.comparing import Difference, Floats, compare


@dataclass(frozen=True)
class Spread:
    """A group of wordings under one recipe: the ranks of the answer, None where it was not found."""

    group: int
    members: tuple[int, ...]
    ranks: tuple[int | None, ...]
    spread: float


def spreads(ranks: Sequence[int | None], groups: NDArray[np.int64]) -> list[Spread]:
    """How far apart the ranks of an answer are over its wordings.

    Parameters
    ----------
    ranks : q ranks from 1, None where the answer was not found
    groups : (q,) int64 array
        Wordings of one question have the same number; those that stand alone are left out.

    Returns
    -------
    list of Spread
        In the order of the groups. A spread is the mean over pairs of wordings of the difference between their
        reciprocal ranks: 0 where all are found at the same rank, up to 1; smaller is steadier.
    """
    values = np.array([0.0 if rank is None else 1.0 / rank for rank in ranks], np.float64)
    found = []
    for group in np.unique(groups).tolist():
        members = np.flatnonzero(groups == group)
        if len(members) < 2:
            continue
        own = values[members]
        upper = np.triu_indices(len(own), 1)
        apart = np.abs(own[upper[0]] - own[upper[1]])
        told = tuple(ranks[row] for row in members.tolist())
        found.append(Spread(group, tuple(members.tolist()), told, float(apart.mean())))
    return found


def steadier(first: Sequence[Spread], second: Sequence[Spread]) -> Difference | None:
    """What steadiness, 1 less the spread, gains from one recipe to another, group by group; None without groups."""
    before = {one.group: one.spread for one in first}
    after = {one.group: one.spread for one in second}
    both = sorted(before.keys() & after.keys())
    if not both:
        return None
    table: Floats = 1 - np.array([[before[group] for group in both], [after[group] for group in both]])
    (found,) = compare(table, [(0, 1)])
    return found
