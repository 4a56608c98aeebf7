"""Patches of a sheet by the words that stand on them: each is the mean of the vectors of its tokens.

So an encoder that reads texts alone describes a page as one that reads pictures does: a grid of patches, each with a
vector. A patch without words has none. What a drawing shows is not seen, only what is written on it.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.encoder import Encoder
from doppio.core.text.pictures import Line

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Described:
    """The patches of a sheet.

    vectors : (p, d) float32, of unit length
    cells : (p,) int64, rising: the cell of the grid, row by row
    held : (t,) int32, rising: numbers of the tokens that stand on it
    """

    vectors: Floats
    cells: NDArray[np.int64]
    held: NDArray[np.int32]


@dataclass(frozen=True)
class _Part:
    """Lines that are encoded together: of which sheet, where each begins in the text, and where it stands."""

    sheet: int
    text: str
    begins: NDArray[np.int64]
    lengths: NDArray[np.int64]
    places: NDArray[np.float64]


def described(encoder: Encoder, sheets: Sequence[Sequence[Line]], rows: int, columns: int) -> list[Described]:
    """Describe sheets by their lines, each a text and its place, on a grid of so many rows and columns."""
    sums = [np.zeros((rows * columns, encoder.token_width), np.float32) for _ in sheets]
    there = [np.zeros(rows * columns, bool) for _ in sheets]
    held: list[list[NDArray[np.int64]]] = [[] for _ in sheets]
    parts = [part for number, lines in enumerate(sheets) for part in _parts(encoder, number, lines)]
    units = encoder.token_offsets([part.text for part in parts])
    for batch in encoder.encode([part.text for part in parts], tokens=True):
        assert batch.tokens is not None and batch.ids is not None
        for at, vectors, ids in zip(batch.place.tolist(), batch.tokens, batch.ids, strict=True):
            part, count = parts[at], len(vectors)
            middles = (units[at].starts[:count] + units[at].ends[:count]) / 2
            cells = _cells(part, middles, rows, columns)
            np.add.at(sums[part.sheet], cells, vectors)
            there[part.sheet][cells] = True
            held[part.sheet].append(ids)
    found = []
    for own, some, stand in zip(sums, there, held, strict=True):
        means = own[some]
        means /= np.maximum(np.linalg.norm(means, axis=1, keepdims=True), 1e-9)
        tokens = np.unique(np.concatenate([np.empty(0, np.int64), *stand])).astype(np.int32)
        found.append(Described(means, np.flatnonzero(some), tokens))
    return found


def _parts(encoder: Encoder, sheet: int, lines: Sequence[Line]) -> list[_Part]:
    """Lines one after another, as many together as the encoder reads: words are read among their neighbours."""
    counts = encoder.token_counts([text for text, _ in lines]).tolist()
    groups: list[list[Line]] = []
    tokens = 0
    for line, count in zip(lines, counts, strict=True):
        if not groups or tokens + count > encoder.max_tokens:
            groups.append([])
            tokens = 0
        groups[-1].append(line)
        tokens += count
    found = []
    for group in groups:
        lengths = np.array([len(text) for text, _ in group], np.int64)
        begins = np.concatenate([[0], np.cumsum(lengths + 1)[:-1]]).astype(np.int64)
        places = np.array([place for _, place in group], np.float64)
        found.append(_Part(sheet, " ".join(text for text, _ in group), begins, lengths, places))
    return found


def _cells(part: _Part, middles: NDArray[np.float64], rows: int, columns: int) -> NDArray[np.int64]:
    """The cell that each token stands on; in a line words stand where their letters would if all were as wide."""
    line = np.maximum(np.searchsorted(part.begins, middles, side="right") - 1, 0)
    share = np.clip((middles - part.begins[line]) / np.maximum(part.lengths[line], 1), 0, 1)
    left, top, right, bottom = part.places[line].T
    across, down = left + share * (right - left), (top + bottom) / 2
    row = np.clip((down * rows).astype(np.int64), 0, rows - 1)
    column = np.clip((across * columns).astype(np.int64), 0, columns - 1)
    found: NDArray[np.int64] = row * columns + column
    return found
