"""How arrays that are mapped from files are going to be read."""

import mmap

import numpy as np
from numpy.typing import NDArray


def read_here_and_there(*arrays: NDArray[np.generic]) -> None:
    """Say that rows of arrays will be picked one here and one there.

    Where the disk has not read a file lately the system reads much around each row that is asked for, since most
    readers go on with what is behind it. Whoever picks rows waits for that, and has no use for it. Arrays that are
    not mapped are left as they are; what is in memory already is read as ever.
    """
    for array in arrays:
        below: object = array
        while below is not None and not isinstance(below, mmap.mmap):
            below = getattr(below, "base", None)
        if below is not None:
            below.madvise(mmap.MADV_RANDOM)
