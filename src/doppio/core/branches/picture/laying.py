"""Are two pictures one, that was cut, made smaller or coloured otherwise? One is laid over the other, and compared.

Where points of both say the same turn, size and place (Fischler and Bolles, "Random Sample Consensus", CACM 1981) the
one is moved so, and what edges it has are compared with those that are there.
"""

from functools import lru_cache

import numpy as np
from numba import njit
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
    found = float(_likeness(1 + 0j, 0j, small, other, *shape, *other_shape))
    if not cosines.size:
        return found
    best = cosines.argmax(axis=1)
    mine = np.flatnonzero(cosines[np.arange(len(best)), best] >= ALIKE)
    if len(mine) < LEAST_POINTS:
        return found
    here, there = (_plane(own) for own in (places[mine], others[best[mine]]))
    moved, turn, shift = _move(here, there, *_tries(len(here)))
    return max(found, float(_likeness(turn, shift, small, other, *shape, *other_shape))) if moved else found


@lru_cache(maxsize=256)
def _tries(count: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Pairs of points to go by, the same for so many each time."""
    one, two = np.random.default_rng(_SEED).integers(0, count, (2, TRIES))
    return one, two


def _plane(places: Floats) -> NDArray[np.complex128]:
    return places[:, 0].astype(np.float64) + 1j * places[:, 1]


@njit(cache=True, nogil=True)
def _move(here, there, one, two):  # type: ignore[no-untyped-def]
    """Whether there is a turn and size, as one number, and a shift that bring most points to their places; and both.

    `one` and `two` are the points that each try goes by.
    """
    turn, shift, most = 0j, 0j, 0
    for at in range(one.size):
        apart = here[one[at]] - here[two[at]]
        if abs(apart) <= 2 * NEAR:
            continue
        turned = (there[one[at]] - there[two[at]]) / apart
        if not SIZES[0] < abs(turned) < SIZES[1]:
            continue
        shifted = there[one[at]] - turned * here[one[at]]
        agree = 0
        for point in range(here.size):
            agree += _meets(turned, shifted, here[point], there[point])
        if agree > most:
            turn, shift, most = turned, shifted, agree
    if most < LEAST_POINTS:
        return False, turn, shift
    mean_here, mean_there = 0j, 0j
    for point in range(here.size):
        if _meets(turn, shift, here[point], there[point]):
            mean_here += here[point] / most
            mean_there += there[point] / most
    spread, together = 0.0, 0j
    for point in range(here.size):
        if _meets(turn, shift, here[point], there[point]):
            off = here[point] - mean_here
            spread += off.real**2 + off.imag**2
            together += np.conj(off) * (there[point] - mean_there)
    if spread < NEAR**2:
        return False, turn, shift
    turn = together / spread
    return True, turn, mean_there - turn * mean_here


@njit(cache=True, nogil=True)
def _meets(turn, shift, here, there):  # type: ignore[no-untyped-def]
    off = turn * here + shift - there
    return off.real**2 + off.imag**2 < NEAR**2


@njit(cache=True, nogil=True)
def _likeness(turn, shift, small, other, high, wide, other_high, other_wide):  # type: ignore[no-untyped-def]
    """How alike the edges of a picture and of what lies under it are, over where both are, times how much that is."""
    on_me = both = mine = its = mine_squared = its_squared = product = np.int64(0)
    for row in range(SMALL):
        down = (row + 0.5) / SMALL
        for column in range(SMALL):
            across = (column + 0.5) / SMALL
            if across >= wide or down >= high:
                continue
            on_me += 1
            right, below = (
                turn.real * across - turn.imag * down + shift.real,
                turn.imag * across + turn.real * down + shift.imag,
            )
            if right < 0 or right >= other_wide or below < 0 or below >= other_high:
                continue
            both += 1
            own = np.int64(small[row, column])
            under = np.int64(other[min(np.int64(below * SMALL), SMALL - 1), min(np.int64(right * SMALL), SMALL - 1)])
            mine += own
            its += under
            mine_squared += own * own
            its_squared += under * under
            product += own * under
    shared = np.float64(both) / np.float64(on_me if on_me else 1)
    if shared < LEAST_SHARED:
        return 0.0
    # Whole numbers, so that nothing is lost to rounding.
    spreads = np.float64(both * mine_squared - mine * mine) * np.float64(both * its_squared - its * its)
    if spreads <= 0:
        return 0.0
    return max(np.float64(both * product - mine * its) / np.sqrt(spreads), 0.0) * np.sqrt(shared)
