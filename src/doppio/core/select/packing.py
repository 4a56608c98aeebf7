"""Which passages does the assistant get? The first k that fit its context."""

import numpy as np
from numpy.typing import NDArray


def first_groups(groups: NDArray[np.int64], k: int) -> NDArray[np.bool_]:
    """Which of the ranked passages belong to the first `k` groups; passages of one group hand on the same text.

    Parameters
    ----------
    groups : (n,) int64 array
        Number of the group of each passage, best passage first.
    k : int

    Returns
    -------
    kept : (n,) bool array
    """
    _, first, place = np.unique(groups, return_index=True, return_inverse=True)
    order = np.empty(len(first), np.int64)
    order[np.argsort(first)] = np.arange(len(first))
    return np.asarray(order[place] < k)


def pack(tokens: NDArray[np.int64], budget: int, groups: NDArray[np.int64] | None = None) -> NDArray[np.bool_]:
    """Take passages in their order while they fit.

    Parameters
    ----------
    tokens : (n,) int64 array
        Tokens of the passages, best passage first.
    budget : int
        Tokens that the context holds.
    groups : (n,) int64 array or None
        Passages of one group hand on the same text, which is paid for once; None where each is its own.

    Returns
    -------
    taken : (n,) bool array

    Notes
    -----
    A passage that does not fit is passed over, and a shorter one after it may still be taken.
    """
    taken = np.zeros(len(tokens), bool)
    left = budget
    paid: set[int] = set()
    for place, needed in enumerate(tokens.tolist()):
        group = place if groups is None else int(groups[place])
        cost = 0 if group in paid else needed
        if cost <= left:
            taken[place] = True
            left -= cost
            paid.add(group)
    return taken
