"""Which passages does the assistant get? The first k that fit its context."""

import numpy as np
from numpy.typing import NDArray


def pack(tokens: NDArray[np.int64], budget: int) -> NDArray[np.bool_]:
    """Take passages in their order while they fit.

    Parameters
    ----------
    tokens : (n,) int64 array
        Tokens of the passages, best passage first.
    budget : int
        Tokens that the context holds.

    Returns
    -------
    taken : (n,) bool array

    Notes
    -----
    A passage that does not fit is passed over, and a shorter one after it may still be taken.
    """
    taken = np.zeros(len(tokens), bool)
    left = budget
    for place, needed in enumerate(tokens.tolist()):
        if needed <= left:
            taken[place] = True
            left -= needed
    return taken
