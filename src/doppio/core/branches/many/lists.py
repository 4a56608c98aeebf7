"""Which chunks have a token in a cell: lists of rising numbers, each as its distance from the one before.

References
----------
.. [1] I. Witten, A. Moffat, T. Bell, "Managing Gigabytes", 2nd edition, 1999: gaps in bytes of seven bits.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray


@dataclass(frozen=True)
class CellLists:
    """Chunks of every cell.

    begins : (c + 1,) int64, the first byte of each list
    gaps : (m,) uint8, seven bits of a gap a byte, the lowest first; the eighth says that more follow
    """

    begins: NDArray[np.int64]
    gaps: NDArray[np.uint8]

    @property
    def bytes(self) -> int:
        return self.begins.nbytes + self.gaps.nbytes


def cell_lists(cells: NDArray[np.uint16], bounds: NDArray[np.int64], count: int) -> CellLists:
    """Lists of chunks by cell.

    Parameters
    ----------
    cells : (t,) uint16 array
        Of each token.
    bounds : (n + 1,) int64 array
        The first token of each chunk.
    count : int
        Cells that there are.
    """
    order = np.argsort(cells, kind="stable")
    owner = np.repeat(np.arange(len(bounds) - 1, dtype=np.int32), np.diff(bounds))[order]
    firsts = np.concatenate([[0], np.cumsum(np.bincount(cells, minlength=count))]).astype(np.int64)
    begins = np.zeros(count + 1, np.int64)
    gaps = np.empty(_gaps(owner, firsts, begins, np.empty(0, np.uint8)), np.uint8)
    _gaps(owner, firsts, begins, gaps)
    return CellLists(begins, gaps)


@njit(cache=True, nogil=True)
def _gaps(owner, firsts, begins, gaps):  # type: ignore[no-untyped-def]
    """Write where each list begins, and its gaps where there is room for any; returns the bytes of all lists."""
    place = 0
    for cell in range(firsts.size - 1):
        begins[cell] = place
        last = -1
        for at in range(firsts[cell], firsts[cell + 1]):
            gap = owner[at] - last
            if gap == 0:
                continue
            last = owner[at]
            while gap >= 128:
                if gaps.size:
                    gaps[place] = (gap & 127) | 128
                gap >>= 7
                place += 1
            if gaps.size:
                gaps[place] = gap
            place += 1
    begins[firsts.size - 1] = place
    return place
