"""What of an older build is still right? Rows of documents that have not changed are taken over, not made again."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable

Rows = NDArray[np.int64]
DIGEST_BYTES = 10


@dataclass(frozen=True)
class Taken:
    """Chunk `old[i]` of an older table is chunk `new[i]` of the present one; both (m,) int64, `new` rising."""

    old: Rows
    new: Rows

    def rest(self, count: int) -> Rows:
        """The chunks, of `count`, that are not taken over."""
        left = np.ones(count, bool)
        left[self.new] = False
        return np.flatnonzero(left)


NOTHING = Taken(np.empty(0, np.int64), np.empty(0, np.int64))


def digest_column(digests: Sequence[str]) -> NDArray[np.uint8]:
    """Digests of documents as an array: (n, 10) uint8."""
    return np.frombuffer(b"".join(map(bytes.fromhex, digests)), np.uint8).reshape(-1, DIGEST_BYTES)


def unchanged(before: NDArray[np.uint8], now: NDArray[np.uint8]) -> dict[int, int]:
    """Position of each unchanged document: now -> before."""
    at = {row.tobytes(): position for position, row in enumerate(before)}
    found = ((position, at.get(row.tobytes())) for position, row in enumerate(now))
    return {position: old for position, old in found if old is not None}


def taken_rows(before: ChunkTable, now: ChunkTable, positions: Mapping[int, int]) -> Taken:
    """Rows of the unchanged documents in both tables."""
    if not positions:
        return NOTHING
    new = np.array(sorted(positions), np.int64)
    old = np.array([positions[position] for position in new.tolist()], np.int64)
    return Taken(_rows_of(before, old), _rows_of(now, new))


def _rows_of(table: ChunkTable, positions: Rows) -> Rows:
    low = np.searchsorted(table.document, positions)
    return ranges(low, np.searchsorted(table.document, positions, side="right"))


def ranges(low: Rows, high: Rows) -> Rows:
    """All whole numbers of the ranges `[low[i], high[i])`, one range after another."""
    lengths = high - low
    found: Rows = (
        np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths) + np.repeat(low, lengths)
    )
    return found


def rows_taken(new_count: int, taken: Taken, old: NDArray[Any], fresh: NDArray[Any]) -> NDArray[Any]:
    """Rows of the present table from those of the older one and the ones made now (in the order of `rest`)."""
    joined = np.empty((new_count, *old.shape[1:]), old.dtype)
    joined[taken.new] = old[taken.old]
    joined[taken.rest(new_count)] = fresh
    return joined


def lists_taken(
    new_count: int, taken: Taken, begins: Rows, arrays: Sequence[NDArray[Any]],
    fresh_lengths: Rows, fresh: Sequence[NDArray[Any]],
) -> tuple[Rows, list[NDArray[Any]]]:  # fmt: skip
    """The same for rows that are lists of different lengths: `begins` is (n + 1,), the arrays hold all lists."""
    lengths = np.empty(new_count, np.int64)
    lengths[taken.new] = (begins[1:] - begins[:-1])[taken.old]
    rest = taken.rest(new_count)
    lengths[rest] = fresh_lengths
    present = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    kept_to = ranges(present[taken.new], present[taken.new + 1])
    kept_from = ranges(begins[taken.old], begins[taken.old + 1])
    made_to = ranges(present[rest], present[rest + 1])
    found = []
    for old, made in zip(arrays, fresh, strict=True):
        joined = np.empty((int(present[-1]), *old.shape[1:]), old.dtype)
        joined[kept_to] = old[kept_from]
        joined[made_to] = made
        found.append(joined)
    return present, found
