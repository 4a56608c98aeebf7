"""What a context hands on, piece by piece, in the order in which it is written."""

from dataclasses import dataclass

import numpy as np

from doppio.core.chunking.table import ChunkTable
from doppio.core.trace import StageTrace


@dataclass
class Piece:
    """A range that is handed on (document, start, end), and the places of the passages that brought it."""

    range: tuple[int, int, int]
    rows: list[int]


def pieces_of(stage: StageTrace, table: ChunkTable) -> list[Piece]:
    """The pieces of a context."""
    assert stage.written is not None
    ranges = stage.ranges
    if ranges is None:
        own = stage.chunks
        ranges = np.stack([table.document[own], table.host_start[own], table.host_end[own]], axis=1)
    found: dict[int, Piece] = {}
    for row, (place, on) in enumerate(zip(stage.written.tolist(), stage.kept.tolist(), strict=True)):
        if on:
            document, start, end = ranges[row].tolist()
            found.setdefault(place, Piece((document, start, end), [])).rows.append(row)
    return [found[place] for place in sorted(found)]
