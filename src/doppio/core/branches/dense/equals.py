"""Rows that are equal: a graph has room for one of them, and the others are found with it.

Among many equal rows every link leads to one of the same kind, and what lies beyond them is met no more.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import ByteCodes

_NO_BEGINS: NDArray[np.int64] = np.empty(0, np.int64)
_NO_MEMBERS: NDArray[np.int32] = np.empty(0, np.int32)


@dataclass(frozen=True)
class Groups:
    """Rows by group; both arrays are empty where every row is a group of its own.

    begins : (g + 1,) int64, the first entry of each group
    members : (n,) int32, rows in the order of the groups, rising within one
    """

    begins: NDArray[np.int64] = field(default_factory=lambda: _NO_BEGINS)
    members: NDArray[np.int32] = field(default_factory=lambda: _NO_MEMBERS)

    def firsts(self, count: int) -> NDArray[np.int64]:
        """The first row of each group, of `count` rows: (g,) int64."""
        return self.members[self.begins[:-1]].astype(np.int64) if self.begins.size else np.arange(count)

    def owners(self, count: int) -> NDArray[np.int64]:
        """The group of each of `count` rows: (n,) int64."""
        if not self.begins.size:
            return np.arange(count)
        found = np.empty(len(self.members), np.int64)
        found[self.members] = np.repeat(np.arange(len(self.begins) - 1), np.diff(self.begins))
        return found

    def gone(self, dead: NDArray[np.bool_]) -> NDArray[np.bool_]:
        """Groups of which no row is left: (g,) bool; as `dead`, empty where all are left."""
        if not (dead.size and self.begins.size):
            return dead
        return np.add.reduceat(~dead[self.members], self.begins[:-1]) == 0

    def rows(self, groups: NDArray[np.int64], count: int, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
        """The first `count` rows of groups that are not deleted, in the order of the groups."""
        if not self.begins.size:
            return groups[:count]
        return _rows(groups, count, self.begins, self.members, dead)


def grouped(owners: NDArray[np.int64], groups: int) -> Groups:
    """Groups from the group of each row, no group being empty."""
    if groups == len(owners) and (owners == np.arange(groups)).all():
        return Groups()
    members = np.argsort(owners, kind="stable").astype(np.int32)
    begins = np.concatenate([[0], np.cumsum(np.bincount(owners, minlength=groups))]).astype(np.int64)
    return Groups(begins, members)


def equal_rows(codes: ByteCodes) -> NDArray[np.int64]:
    """The group of each row, groups being numbered by their first rows: (n,) int64.

    Notes
    -----
    Rows whose codes and scales are the same are equal: a graph cannot tell them apart.
    """
    marks = _marks(codes.codes, codes.scales)
    order = np.argsort(marks, kind="stable")
    heads = _heads(order, marks, codes.codes, codes.scales)
    _, owners = np.unique(heads, return_inverse=True)
    return owners.astype(np.int64)


@njit(cache=True, nogil=True)
def _rows(groups, count, begins, members, dead):  # type: ignore[no-untyped-def]
    found = np.empty(count, np.int64)
    size = 0
    for group in groups:
        for at in range(begins[group], begins[group + 1]):
            row = members[at]
            if size == count:
                return found
            if not (dead.size and dead[row]):
                found[size] = row
                size += 1
    return found[:size]


@njit(cache=True, nogil=True)
def _marks(codes, scales):  # type: ignore[no-untyped-def]
    """A number of 64 bits for each row, the same for equal ones (FNV-1a by Fowler, Noll and Vo)."""
    found = np.empty(codes.shape[0], np.uint64)
    bits = scales.view(np.uint32)
    for row in range(codes.shape[0]):
        mark = np.uint64(14695981039346656037) ^ np.uint64(bits[row])
        for column in range(codes.shape[1]):
            mark = (mark ^ np.uint64(np.uint8(codes[row, column]))) * np.uint64(1099511628211)
        found[row] = mark
    return found


@njit(cache=True, nogil=True)
def _heads(order, marks, codes, scales):  # type: ignore[no-untyped-def]
    """For each row the first one that is equal to it; rows with the same mark stand together, rising, in `order`."""
    found = np.empty(order.size, np.int64)
    first = 0
    for at in range(order.size):
        row = order[at]
        if marks[row] != marks[order[first]]:
            first = at
        found[row] = row
        for before in range(first, at):
            head = order[before]
            if found[head] == head and scales[head] == scales[row] and (codes[head] == codes[row]).all():
                found[row] = head
                break
    return found
