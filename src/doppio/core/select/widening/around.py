"""What stands around a passage: its neighbours, its section, its document; as ranges, told by the table of chunks."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable

Range = tuple[int, int, int]


def neighbours(table: ChunkTable, chunk: int, each_side: int) -> Range:
    """The chunk with so many before and after it, in its document."""
    document = int(table.document[chunk])
    rows = table.of_document(document)
    low, high = max(chunk - each_side, rows.start), min(chunk + each_side, rows.stop - 1)
    return document, int(table.host_start[low : high + 1].min()), int(table.host_end[low : high + 1].max())


def section(table: ChunkTable, chunk: int) -> Range:
    """All chunks around it that are of the same innermost section; the chunk alone where it is in none."""
    document, own = int(table.document[chunk]), int(table.section[chunk])
    if own < 0:
        return document, int(table.host_start[chunk]), int(table.host_end[chunk])
    rows = table.of_document(document)
    others = np.flatnonzero(table.section[rows] != own) + rows.start
    at = int(np.searchsorted(others, chunk))
    low = int(others[at - 1]) + 1 if at else rows.start
    high = int(others[at]) if at < len(others) else rows.stop
    return document, int(table.host_start[low:high].min()), int(table.host_end[low:high].max())


def whole_document(table: ChunkTable, chunk: int) -> Range:
    """From the first chunk of its document to the last."""
    document = int(table.document[chunk])
    rows = table.of_document(document)
    return document, int(table.host_start[rows].min()), int(table.host_end[rows].max())


def densest(table: ChunkTable, hits: Sequence[int], most_tokens: int) -> tuple[int, int]:
    """The stretch of one document in which hits weigh most: its first chunk and the one after its last.

    Parameters
    ----------
    hits : sequence of int
        Chunks, best first. Each weighs one over its rank and nine: nearly the same, so that two outweigh the best.
    most_tokens : int
        By the tokens of chunks, overlaps counted twice.

    Notes
    -----
    As much of the document is taken as the tokens allow. Of stretches that weigh the same the one is taken whose hits
    stand nearest to its middle. Where no stretch holds a whole chunk, it is the best hit.
    """
    weights = 1 / (np.arange(len(hits)) + 10.0)
    chunks = np.asarray(hits, np.int64)
    best, found = 0.0, (int(chunks[0]), int(chunks[0]) + 1)
    for document in np.unique(table.document[chunks]).tolist():
        rows = table.of_document(document)
        own = np.zeros(rows.stop - rows.start)
        here = table.document[chunks] == document
        own[chunks[here] - rows.start] = weights[here]
        tokens = np.concatenate([[0], np.cumsum(table.tokens[rows])])
        held, moment = (np.concatenate([[0], np.cumsum(each)]) for each in (own, own * np.arange(len(own))))
        first = np.arange(len(own))
        last = np.searchsorted(tokens, tokens[:-1] + most_tokens, side="right") - 1
        weight = held[last] - held[first]
        center = (moment[last] - moment[first]) / np.maximum(weight, 1e-12)
        off = np.abs(center - (first + last - 1) / 2) / max(len(own), 1)
        value = np.where(weight > 0, weight - 1e-6 * off, 0)
        at = int(value.argmax())
        if value[at] > best:
            best, found = float(value[at]), (at + rows.start, int(last[at]) + rows.start)
    return found


def shrinking(table: ChunkTable, stretch: tuple[int, int], hits: Sequence[int]) -> list[Range]:
    """A stretch, and what is left of it as chunks go from its ends, down to what lies between its hits."""
    low, high = stretch
    inside = [hit for hit in hits if low <= hit < high]
    found = [(low, high)]
    while (before := min(inside) - low) + (after := high - 1 - max(inside)):
        low, high = (low + 1, high) if before > after else (low, high - 1)
        found.append((low, high))
    document = int(table.document[stretch[0]])
    return [
        (document, int(table.host_start[one:other].min()), int(table.host_end[one:other].max()))
        for one, other in found
    ]


def merged(ranges: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each range the one that it has become: ranges of a document that overlap are one.

    Parameters
    ----------
    ranges : (n, 3) int64 array
        Document, start and end. Those that only touch stay two.

    Returns
    -------
    (n, 3) int64 array
    """
    found = ranges.copy()
    order = np.lexsort((ranges[:, 2], ranges[:, 1], ranges[:, 0]))
    open_rows: list[int] = []
    reach, document = -1, -1
    for row in order.tolist():
        own, start, end = ranges[row].tolist()
        if open_rows and own == document and start < reach:
            open_rows.append(row)
            reach = max(reach, end)
        else:
            open_rows, document, reach = [row], own, end
        found[open_rows, 1] = ranges[open_rows, 1].min()
        found[open_rows, 2] = reach
    return found
