"""Are two pictures one, that was cut, made smaller or coloured otherwise? One is laid over the other, and compared.

Where points of both say the same turn, size and place (Fischler and Bolles, "Random Sample Consensus", CACM 1981) the
one is moved so, and what edges it has are compared with those that are there.
"""

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.looks import SMALL

# Points that look this much alike may be the same; how far from its place one may lie, in sides.
ALIKE, NEAR = 0.8, 0.02
TRIES, LEAST_POINTS = 160, 4
# Neither much larger nor much smaller than what it is compared with.
SIZES = (0.2, 5.0)
# Of the picture that is asked by must lie on the other one.
LEAST_SHARED = 0.25
_SEED = 7

_SPOTS = ((np.arange(SMALL) + 0.5)[None, :] + 1j * (np.arange(SMALL) + 0.5)[:, None]) / SMALL

Floats = NDArray[np.float32]
Shape = tuple[float, float]


def laid_over(
    cosines: Floats, places: Floats, others: Floats, small: NDArray[np.uint8], other: NDArray[np.uint8], shape: Shape,
    other_shape: Shape,
) -> float:  # fmt: skip
    """How well a picture is the other, or a part of it: 0 to 1; 0 where no way was found to lay it.

    Parameters
    ----------
    cosines : (p, r) float32
        Of the points of the picture with those of the other.
    places, others : (p, 2) and (r, 2) float32
        Where these are, in sides.
    small, other : (SMALL, SMALL) uint8
    shape, other_shape : height and width of what these show, in sides
    """
    # As it stands: the same picture in another size needs no points.
    found = _likeness(1 + 0j, 0j, small, other, shape, other_shape)
    if not cosines.size:
        return found
    best = cosines.argmax(axis=1)
    mine = np.flatnonzero(cosines[np.arange(len(best)), best] >= ALIKE)
    if len(mine) < LEAST_POINTS:
        return found
    here, there = (_plane(own) for own in (places[mine], others[best[mine]]))
    moved = _move(here, there)
    return found if moved is None else max(found, _likeness(*moved, small, other, shape, other_shape))


def _plane(places: Floats) -> NDArray[np.complex128]:
    return places[:, 0].astype(np.float64) + 1j * places[:, 1]


def _move(here: NDArray[np.complex128], there: NDArray[np.complex128]) -> tuple[complex, complex] | None:
    """Turn and size as one number, and the shift, that bring most points to their places; None where few agree."""
    dice = np.random.default_rng(_SEED)
    one, two = dice.integers(0, len(here), (2, TRIES))
    apart = here[one] - here[two]
    good = np.abs(apart) > 2 * NEAR
    if not good.any():
        return None
    turns = (there[one] - there[two])[good] / apart[good]
    shifts = there[one[good]] - turns * here[one[good]]
    fit = (np.abs(turns) > SIZES[0]) & (np.abs(turns) < SIZES[1])
    turns, shifts = turns[fit], shifts[fit]
    if not len(turns):
        return None
    off = np.abs(turns[:, None] * here[None, :] + shifts[:, None] - there[None, :]) < NEAR
    kept = off[int(off.sum(axis=1).argmax())]
    if kept.sum() < LEAST_POINTS:
        return None
    mean_here, mean_there = here[kept].mean(), there[kept].mean()
    centred = here[kept] - mean_here
    spread = float((np.abs(centred) ** 2).sum())
    if spread < NEAR**2:
        return None
    turn = complex((np.conj(centred) * (there[kept] - mean_there)).sum() / spread)
    return turn, complex(mean_there - turn * mean_here)


def _likeness(
    turn: complex,
    shift: complex,
    small: NDArray[np.uint8],
    other: NDArray[np.uint8],
    shape: Shape,
    other_shape: Shape,
) -> float:
    """How alike the edges of a picture and of what lies under it are, over where both are, times how much that is."""
    on_me = (_SPOTS.real < shape[1]) & (_SPOTS.imag < shape[0])
    there = turn * _SPOTS + shift
    inside = (there.real >= 0) & (there.real < other_shape[1]) & (there.imag >= 0) & (there.imag < other_shape[0])
    both = on_me & inside
    shared = both.sum() / max(on_me.sum(), 1)
    if shared < LEAST_SHARED:
        return 0.0
    rows = np.clip((there.imag * SMALL).astype(np.int64), 0, SMALL - 1)
    columns = np.clip((there.real * SMALL).astype(np.int64), 0, SMALL - 1)
    mine, its = small[both].astype(np.float32), other[rows[both], columns[both]].astype(np.float32)
    one, two = mine - mine.mean(), its - its.mean()
    lengths = float(np.linalg.norm(one) * np.linalg.norm(two))
    alike = float(one @ two) / lengths if lengths else 0.0
    return max(alike, 0.0) * float(shared) ** 0.5
