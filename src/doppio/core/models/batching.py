"""Batches of like length, so that little of them is padding."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

TOKENS_A_BATCH, MOST_ROWS = 4096, 64


def like_length(lengths: NDArray[np.int64], tokens: int = TOKENS_A_BATCH) -> Iterator[NDArray[np.int64]]:
    """Rows in the order of their lengths: at most 64 and `tokens` with padding at once, but always one."""
    order = np.argsort(lengths, kind="stable")
    first = 0
    while first < len(order):
        rows = MOST_ROWS
        # The longest of a batch sets its width; it is not known before its size is.
        while rows > 1 and rows * int(lengths[order[min(first + rows, len(order)) - 1]]) > tokens:
            rows -= 1
        yield order[first : first + rows]
        first += rows
