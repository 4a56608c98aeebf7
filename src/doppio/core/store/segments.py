"""What is an index made of? Immutable segments of chunks, and a list that says which of their documents are left.

A corpus that changes gets a new list: it names the segments that hold its unchanged documents and one more with
those that are new. Segments are never written to. Chunks are numbered by the list, in the order of the corpus, so
two lists of the same corpus give the same numbers however many segments they have.
"""

import bisect
import hashlib
import json
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import COLUMNS, ChunkTable
from doppio.core.errors import ArtifactDamaged
from doppio.core.fingerprint import fingerprint
from doppio.core.store.small_files import SmallFiles

FORMAT, ENDING = "doppio-list/1", ".json"
DIGEST_BYTES = 10
GONE = -1
# More segments than this, or more than this share of deleted chunks in one, and they are merged.
MOST_PARTS, MOST_GONE = 8, 0.3
# Chunks that a segment is to hold at most, where a document's alone are not more.
MOST_CHUNKS = 2_000_000
Rows = NDArray[np.int64]


@dataclass(frozen=True)
class Part:
    """A segment in a list.

    key : str, of the segment's chunks
    documents : (m,) int64, position in the corpus of each of the segment's documents, rising; -1 for those gone
    """

    key: str
    documents: Rows

    @property
    def alive(self) -> int:
        return int((self.documents >= 0).sum())


@dataclass(frozen=True)
class ReadingList:
    """The segments of a corpus; `family` says how all of them were cut."""

    family: str
    parts: tuple[Part, ...]

    @property
    def count(self) -> int:
        """Documents of the corpus."""
        return sum(part.alive for part in self.parts)


@dataclass(frozen=True)
class SegmentChunks:
    """Chunks of a segment: the columns of a chunk table, `document` counting the segment's, and their digests."""

    table: ChunkTable
    digests: NDArray[np.uint8]

    @classmethod
    def opened(cls, arrays: Mapping[str, NDArray[Any]]) -> "SegmentChunks":
        return cls(ChunkTable(**{name: arrays[name] for name in COLUMNS}), arrays["digests"])

    @property
    def begins(self) -> Rows:
        """First row of each document, and the number of rows: (m + 1,) int64."""
        return np.searchsorted(self.table.document, np.arange(len(self.digests) + 1)).astype(np.int64)


@dataclass(frozen=True)
class Numbering:
    """The chunks of a list: how many there are, and which of them each row of each segment is.

    now : for each part (n_i,) int64, rising; -1 where the chunk is gone; empty where the row is the number
    """

    count: int
    now: tuple[Rows, ...]


def stretches(table: ChunkTable, documents: int, most_chunks: int) -> list[tuple[int, int]]:
    """Ranges of documents, one after another, whose chunks make a segment each: no more than it is to hold, and about
    as many in each; one range where there are none."""
    begins = np.searchsorted(table.document, np.arange(documents + 1))
    count = max(1, -(-len(table) // most_chunks))
    ends = np.searchsorted(begins, np.arange(1, count + 1) * len(table) / count, side="right") - 1
    found: list[tuple[int, int]] = []
    low = 0
    for end in [*ends[:-1].tolist(), documents]:
        # A document's chunks stand in one segment, however many they are.
        high = min(max(int(end), low + 1), documents)
        if high > low or not found:
            found.append((low, high))
            low = high
    return found


def of_documents(table: ChunkTable, low: int, high: int) -> ChunkTable:
    """The chunks of some documents one after another, which are counted from 0 in it."""
    rows = slice(*np.searchsorted(table.document, (low, high)).tolist())
    columns = {name: column[rows] for name, column in table.columns().items()}
    return ChunkTable(**{**columns, "document": columns["document"] - low})


def segment_key(family: str, digests: Sequence[str]) -> str:
    """The key of the segment that holds these documents, in this order."""
    return fingerprint(family, list(digests))


def digest_column(digests: Sequence[str]) -> NDArray[np.uint8]:
    """Digests of documents as an array: (n, 10) uint8."""
    return np.frombuffer(b"".join(map(bytes.fromhex, digests)), np.uint8).reshape(-1, DIGEST_BYTES)


def kept_parts(
    parts: Sequence[tuple[str, NDArray[np.uint8]]], digests: Sequence[str]
) -> tuple[list[Part], list[int]]:
    """Which segments serve a corpus, and which of its documents no segment holds.

    Parameters
    ----------
    parts : sequence of (key, (m, 10) uint8 array)
        Segments and the digests of their documents.
    digests : sequence of str
        Of the corpus's documents, in its order.

    Returns
    -------
    parts : list of Part
        Those that still hold a document of the corpus.
    fresh : list of int
        Positions of the other documents.
    """
    wanted: dict[bytes, list[int]] = {}
    for position, digest in enumerate(digests):
        wanted.setdefault(bytes.fromhex(digest), []).append(position)
    left = np.ones(len(digests), bool)
    found = []
    for key, held in parts:
        # Equal documents are as good as each other: the first of a segment takes the first place that is left.
        taken: dict[bytes, int] = {}
        rows, places = [], []
        for row, own in enumerate(map(bytes, held)):
            there, next_one = wanted.get(own, []), taken.get(own, 0)
            if next_one < len(there):
                taken[own] = next_one + 1
                rows.append(row)
                places.append(there[next_one])
        # Documents of a segment stand in the order of the corpus: those that have moved among others are cut anew.
        kept = longest_rising(np.array(places, np.int64))
        if not len(kept):
            continue
        documents = np.full(len(held), GONE, np.int64)
        documents[np.array(rows, np.int64)[kept]] = np.array(places, np.int64)[kept]
        left[documents[documents >= 0]] = False
        for own in taken:
            wanted[own] = [position for position in wanted[own] if left[position]]
        found.append(Part(key, documents))
    return found, np.flatnonzero(left).tolist()


def longest_rising(values: Rows) -> Rows:
    """Places of a longest rising subsequence of different numbers: (m,) int64, rising.

    References
    ----------
    .. [1] C. Schensted, "Longest increasing and decreasing subsequences", Canadian Journal of Mathematics 1961.
    """
    if len(values) < 2 or (np.diff(values) > 0).all():
        return np.arange(len(values), dtype=np.int64)
    # For every length the least value that a subsequence of that length can end with, and where that is.
    ends: list[int] = []
    at: list[int] = []
    before = np.full(len(values), -1, np.int64)
    for place, value in enumerate(values.tolist()):
        length = bisect.bisect_left(ends, value)
        before[place] = at[length - 1] if length else -1
        ends[length : length + 1] = [value]
        at[length : length + 1] = [place]
    found = np.empty(len(ends), np.int64)
    place = at[-1]
    for row in range(len(ends) - 1, -1, -1):
        found[row], place = place, int(before[place])
    return found


def number_chunks(reading: ReadingList, segments: Sequence[SegmentChunks]) -> Numbering:
    """Number the chunks of a list in the order of the corpus."""
    sizes = np.zeros(reading.count, np.int64)
    lengths = []
    for part, segment in zip(reading.parts, segments, strict=True):
        rows = np.diff(segment.begins)
        lengths.append(rows)
        alive = part.documents >= 0
        sizes[part.documents[alive]] = rows[alive]
    first = np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)
    now = []
    for part, segment, rows in zip(reading.parts, segments, lengths, strict=True):
        if len(reading.parts) == 1 and part.alive == len(part.documents):
            now.append(np.empty(0, np.int64))
            continue
        owner = np.repeat(part.documents, rows)
        within = np.arange(len(segment.table)) - np.repeat(segment.begins[:-1], rows)
        now.append(np.where(owner >= 0, first[np.maximum(owner, 0)] + within, GONE))
    return Numbering(int(first[-1]), tuple(now))


def chunk_table(reading: ReadingList, segments: Sequence[SegmentChunks], numbering: Numbering) -> ChunkTable:
    """The chunks of a list as one table; of a single whole segment it is the segment's own, mapped from disk."""
    if len(segments) == 1 and not numbering.now[0].size:
        return segments[0].table
    columns = {name: np.zeros(numbering.count, np.int64) for name in COLUMNS}
    for part, segment, now in zip(reading.parts, segments, numbering.now, strict=True):
        there = now >= 0
        for name, column in segment.table.columns().items():
            values = part.documents[column] if name == "document" else column
            columns[name][now[there]] = values[there]
    return ChunkTable(**columns)


def to_merge(reading: ReadingList, segments: Sequence[SegmentChunks], most_chunks: int = MOST_CHUNKS) -> list[int]:
    """Which parts of a list should become one segment; none where it is well as it is.

    Parameters
    ----------
    most_chunks : int
        Chunks that a segment is to hold; those with more than half of it stay as they are.

    Notes
    -----
    A segment that has lost too many of its chunks is written anew. Of too many segments the smallest are merged,
    until half as many are left as are allowed; so a chunk is copied about as often as the corpus doubles.
    """
    rows = [np.diff(segment.begins) for segment in segments]
    alive = [int(size[part.documents >= 0].sum()) for part, size in zip(reading.parts, rows, strict=True)]
    total = [int(size.sum()) for size in rows]
    worn = [
        place for place, (left, all_) in enumerate(zip(alive, total, strict=True)) if left < (1 - MOST_GONE) * all_
    ]
    small = [place for place in range(len(alive)) if alive[place] <= most_chunks / 2]
    if len(small) <= MOST_PARTS:
        return _within(worn, alive, most_chunks)
    smallest = sorted(small, key=lambda place: (alive[place], place))[: len(small) - MOST_PARTS // 2 + 1]
    return _within(sorted({*worn, *smallest}, key=lambda place: (alive[place], place)), alive, most_chunks)


def _within(places: Sequence[int], alive: Sequence[int], most_chunks: int) -> list[int]:
    """The first of some parts, as many as are no more than a segment is to hold; one at least."""
    sums = np.cumsum([alive[place] for place in places])
    return sorted(places[: max(1, int(np.searchsorted(sums, most_chunks, side="right")))])


@dataclass(frozen=True)
class Stand:
    """A segment of a list, wherever it stands.

    key : str, of its chunks
    now : (n,) int64, the number of each in the list, -1 where it is gone; empty where it is its place
    """

    key: str
    now: Rows


@dataclass
class OpenedList:
    """A reading list with its segments opened and its chunks numbered."""

    key: str
    reading: ReadingList
    segments: list[SegmentChunks]
    numbering: Numbering

    @property
    def stands(self) -> list[Stand]:
        """The segments as those need them who open indexes over them."""
        return [Stand(part.key, now) for part, now in zip(self.reading.parts, self.numbering.now, strict=True)]

    def table(self) -> ChunkTable:
        return chunk_table(self.reading, self.segments, self.numbering)

    def numbers(self, place: int) -> Rows:
        """The number of every chunk of a segment; -1 where it is gone."""
        now = self.numbering.now[place]
        return now if now.size else np.arange(len(self.segments[place].table), dtype=np.int64)


class Lists:
    """Reading lists as small files: replaced whole, so a reader has the old one or the new one."""

    def __init__(self, files: SmallFiles) -> None:
        self.files = files

    def has(self, key: str) -> bool:
        return self.files.has(_name(key))

    def write(self, key: str, reading: ReadingList) -> None:
        body = {
            "family": reading.family,
            "parts": [{"key": part.key, "documents": part.documents.tolist()} for part in reading.parts],
        }
        sealed = {"format": FORMAT, "blake2b": _seal(body), "written": time.time_ns(), "list": body}
        self.files.write(_name(key), json.dumps(sealed))

    def read(self, key: str) -> ReadingList:
        """Read a list.

        Raises
        ------
        FileNotFoundError
            If there is none with that key.
        ArtifactDamaged
            If it is not what was written.
        """
        try:
            return _read(self.files.read(_name(key)))[0]
        except FileNotFoundError:
            raise
        except (OSError, ValueError, KeyError, TypeError) as error:
            where = self.files.where(_name(key))
            raise ArtifactDamaged(f"{where}: cannot be read ({error}); delete it and build again") from error

    def youngest_first(self) -> list[tuple[str, ReadingList]]:
        """All lists that can be read."""
        found = []
        for name, (touched, text) in self.files.read_all().items():
            if not name.endswith(ENDING):
                continue
            try:
                reading, written = _read(text)
            except (ValueError, KeyError, TypeError):
                continue
            # Those of before have no time of their own.
            found.append((written or touched, name.removesuffix(ENDING), reading))
        found.sort(key=lambda entry: (-entry[0], entry[1]))
        return [(key, reading) for _, key, reading in found]

    def remove(self, key: str) -> None:
        self.files.remove(_name(key))


def _name(key: str) -> str:
    return f"{key}{ENDING}"


def _read(text: str) -> tuple[ReadingList, int]:
    """A list, and when it was written, 0 where that is not said."""
    sealed = json.loads(text)
    body = sealed["list"]
    if sealed["format"] != FORMAT or sealed["blake2b"] != _seal(body):
        raise ValueError("the checksum differs")
    parts = tuple(Part(part["key"], np.array(part["documents"], np.int64)) for part in body["parts"])
    return ReadingList(body["family"], parts), int(sealed.get("written", 0))


def _seal(body: Any) -> str:
    return hashlib.blake2b(json.dumps(body, sort_keys=True).encode(), digest_size=16).hexdigest()
