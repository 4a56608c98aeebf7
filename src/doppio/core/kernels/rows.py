"""Finding rows: whole ranges of them, and those that have a number."""

import numpy as np
from numpy.typing import NDArray

Rows = NDArray[np.int64]


def ranges(low: Rows, lengths: Rows) -> Rows:
    """All whole numbers of the ranges that begin at `low[i]` and are `lengths[i]` long, one range after another."""
    found: Rows = (
        np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths) + np.repeat(low, lengths)
    )
    return found


def named(of_each: NDArray[np.bool_], now: Rows) -> NDArray[np.bool_]:
    """What is said of each row's number, and False for a row that is deleted; `now` is as in `rows_of`."""
    # A deleted one has the number -1, the last of these.
    return np.append(of_each, False)[now] if now.size else of_each


def rows_of(now: Rows, count: int, wanted: Rows) -> tuple[NDArray[np.bool_], Rows]:
    """Which of the wanted numbers a segment has, and in which of its rows.

    Parameters
    ----------
    now : (count,) int64 array, or empty
        The number of each row, rising; -1 where it is deleted; empty where the row is the number.
    wanted : (m,) int64 array

    Returns
    -------
    here : (m,) bool array
    rows : (sum of here,) int64 array
    """
    if not now.size:
        here = wanted < count
        return here, wanted[here]
    alive = np.flatnonzero(now >= 0)
    if not alive.size:
        return np.zeros(len(wanted), bool), alive
    at = np.minimum(np.searchsorted(now[alive], wanted), len(alive) - 1)
    here = now[alive[at]] == wanted
    return here, alive[at[here]]
