"""Texts of documents as bytes in files: a range is read without the rest of its document, and without a database.

Offsets count code points, and UTF-8 gives them no fixed width. So the byte of every 1024th code point is marked, and
how many lines end before it: what is read to find a range and its lines are the bytes between two marks.
"""

import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

# Code points from one mark of a document to the next.
EVERY = 1024
Rows = NDArray[np.int64]
# The bytes of a text, (n,) uint8, and its marks, (m, 2) int64.
Part = tuple[NDArray[np.uint8], Rows]
FORGOTTEN: Part = np.empty(0, np.uint8), np.empty((0, 2), np.int64)
NEWLINE, BESIDE, FOLLOWS = 0x0A, 0xC0, 0x80


@dataclass(frozen=True)
class Cut:
    """A range of a text, and the first and the last line that it stands on, counted from 1."""

    text: str
    lines: tuple[int, int]


@dataclass(frozen=True)
class WrittenTexts:
    """The texts of d documents, one after another, each of the chunks from one number to the next; those that are to
    be forgotten, or were when the others were written, are empty.

    data : (bytes,) uint8, UTF-8
    begins : (d + 1,) int64, the byte that each begins at
    marks : (m, 2) int64, for every 1024th code point of a document, its first one included, the bytes of the document
        before it and the lines that end before it
    first_marks : (d + 1,) int64, the mark that each begins with
    chunks : (d + 1,) int64, rising, the first chunk of each
    """

    data: NDArray[np.uint8]
    begins: Rows
    marks: Rows
    first_marks: Rows
    chunks: Rows

    def holds(self, document: int) -> bool:
        """Whether the text of a document is there; what has chunks is not empty."""
        return bool(self.begins[document] < self.begins[document + 1])

    def part(self, document: int) -> Part:
        """The bytes of a document, and its marks."""
        low, high = self.begins[document : document + 2].tolist()
        first, behind = self.first_marks[document : document + 2].tolist()
        return self.data[low:high], self.marks[first:behind]

    def cut(self, document: int, start: int, end: int) -> Cut:
        """A range of a document, in code points; what is beyond its end is left out."""
        first, behind = int(self.first_marks[document]), int(self.first_marks[document + 1])
        if first == behind:
            return Cut("", (1, 1))
        begin, begins_at = int(self.begins[document]), min(start // EVERY, behind - first - 1)
        ends_at = first - (-end // EVERY)
        low = begin + int(self.marks[first + begins_at, 0])
        high = begin + int(self.marks[ends_at, 0]) if ends_at < behind else int(self.begins[document + 1])
        near = self.data[low:high].tobytes().decode()
        start, end = start - begins_at * EVERY, end - begins_at * EVERY
        line = int(self.marks[first + begins_at, 1]) + near.count("\n", 0, start) + 1
        return Cut(near[start:end], (line, line + near.count("\n", start, end)))

    def arrays(self) -> dict[str, NDArray[Any]]:
        return {name: getattr(self, name) for name in COLUMNS}

    @classmethod
    def of(cls, text: str) -> "WrittenTexts":
        """One text, of one chunk, in memory."""
        data, marks = as_bytes(text)
        return cls(data, np.array([0, len(data)]), marks, np.array([0, len(marks)]), np.array([0, 1]))

    @classmethod
    def opened(cls, arrays: Mapping[str, NDArray[Any]]) -> "WrittenTexts":
        return cls(**{name: arrays[name] for name in COLUMNS})


COLUMNS = tuple(column.name for column in fields(WrittenTexts))


def as_bytes(text: str) -> Part:
    """The bytes of a text, and its marks."""
    data = np.frombuffer(text.encode(), np.uint8)
    begins = np.arange(len(data)) if len(data) == len(text) else np.flatnonzero((data & BESIDE) != FOLLOWS)
    marked = begins[::EVERY].astype(np.int64)
    ends = np.flatnonzero(data == NEWLINE)
    return data, np.stack([marked, np.searchsorted(ends, marked)], axis=1).astype(np.int64)


def gathered(parts: Iterable[Part], chunks: Rows, columns: Any) -> WrittenTexts:
    """Texts one after another, from the bytes and marks of each.

    Parameters
    ----------
    chunks : (d + 1,) int64
        The first chunk of each, and the number of chunks.
    columns : Columns
        Where the bytes grow.
    """
    sizes, marks = np.zeros(len(chunks), np.int64), np.zeros(len(chunks), np.int64)
    for place, (data, own) in enumerate(itertools.chain([FORGOTTEN], parts)):
        columns.add("data", data)
        columns.add("marks", own)
        sizes[place], marks[place] = len(data), len(own)
    taken = columns.taken()
    return WrittenTexts(taken["data"], np.cumsum(sizes), taken["marks"], np.cumsum(marks), chunks)


class TextsOfList:
    """Where the texts of the chunks of a list are written: in which of its segments, and as which of its texts.

    Parameters
    ----------
    segments : sequence of (WrittenTexts or None, (d,) int64 array)
        For each segment its texts, None where they are not written, and the number that the first chunk of each of
        its documents with chunks has in the list; -1 where it is gone.

    Attributes
    ----------
    firsts : (d,) int64, rising
        The first chunk of each document that is left.
    """

    def __init__(self, segments: Sequence[tuple[WrittenTexts | None, Rows]]) -> None:
        self._texts = [texts for texts, _ in segments]
        numbers = np.concatenate([np.empty(0, np.int64), *(first for _, first in segments)])
        segment = np.repeat(np.arange(len(segments)), [len(first) for _, first in segments])
        row = np.concatenate([np.empty(0, np.int64), *(np.arange(len(first)) for _, first in segments)])
        alive = np.flatnonzero(numbers >= 0)
        order = alive[np.argsort(numbers[alive])]
        self.firsts, self._segment, self._row = numbers[order], segment[order], row[order]

    def parts(self) -> Iterator[Part]:
        """The texts of all documents with chunks, in the order of the list."""
        for segment, row in zip(self._segment.tolist(), self._row.tolist(), strict=True):
            texts = self._texts[segment]
            yield FORGOTTEN if texts is None else texts.part(row)

    def of(self, chunk: int) -> tuple[WrittenTexts, int] | None:
        """The texts that hold the document of a chunk, and which of them it is; None where it is not written."""
        place = int(np.searchsorted(self.firsts, chunk, side="right")) - 1
        texts, row = self._texts[int(self._segment[place])], int(self._row[place])
        return None if texts is None or not texts.holds(row) else (texts, row)
