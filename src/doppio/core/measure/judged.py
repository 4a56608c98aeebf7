"""A ranking with the relevance of its chunks, as metrics look at it."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.relevance import Relevance

NEVER = np.iinfo(np.int64).max
Range = tuple[int, int, int]
# By chunk what it hands on, where that is not what the table of chunks says.
Handed = Mapping[int, Range]


@dataclass(frozen=True)
class Judged:
    """One ranking for one answerable question; what several metrics look at is worked out once.

    ranking : (n,) int64, chunks, best first; no two of one host, see `handed_on`
    """

    ranking: NDArray[np.int64]
    relevance: Relevance
    table: ChunkTable
    handed: Handed | None = None

    @cached_property
    def matrix(self) -> NDArray[np.bool_]:
        """(answers, n) bool: is the n-th ranked chunk relevant to the m-th answer?"""
        return self.relevance.matrix(self.ranking)

    @cached_property
    def relevant(self) -> NDArray[np.bool_]:
        """(n,) bool: is the chunk relevant to any answer? A document that is the answer as a whole counts once."""
        counted = self.matrix
        if self.once.any():
            before: NDArray[np.int64] = np.cumsum(counted, axis=1) - counted
            counted = counted & ~(self.once[:, None] & (before > 0))
        return np.asarray(counted.any(axis=0))

    @cached_property
    def once(self) -> NDArray[np.bool_]:
        """(answers,) bool: is the answer a whole document?"""
        return np.array([span is None for span in self.relevance.ranges], bool)

    @cached_property
    def new(self) -> NDArray[np.bool_]:
        """(n,) bool: does the chunk meet an answer that no chunk before it has met?"""
        found = np.zeros(len(self.ranking), bool)
        found[self.first[self.met]] = True
        return found

    @cached_property
    def rejected(self) -> NDArray[np.bool_]:
        """(n,) bool: has somebody looked at the chunk and found no answer?"""
        return np.isin(self.ranking, self.relevance.rejected)

    @cached_property
    def met(self) -> NDArray[np.bool_]:
        """(answers,) bool: has the answer a relevant chunk anywhere in the ranking?"""
        return np.asarray(self.matrix.any(axis=1))

    @cached_property
    def first(self) -> NDArray[np.int64]:
        """(answers,) int64: place of the first chunk that is relevant to each, from 0; `NEVER` without one."""
        spans, length = self.matrix.shape
        if not length:
            return np.full(spans, NEVER)
        return np.where(self.met, self.matrix.argmax(axis=1), NEVER)

    @cached_property
    def spans(self) -> list[Range]:
        """Answers that have offsets, as (document, start, end)."""
        return [span for span in self.relevance.ranges if span is not None]

    def pieces(self, k: int) -> list[Range]:
        """What the first `k` chunks hand on."""
        return hosts(self.ranking[:k], self.table, self.handed)


def handed_on(ranking: NDArray[np.int64], table: ChunkTable, handed: Handed | None = None) -> NDArray[np.int64]:
    """A ranking without the chunks whose host, which is what the assistant gets, stands higher already."""
    first: dict[Range, int] = {}
    for place, host in enumerate(hosts(ranking, table, handed)):
        first.setdefault(host, place)
    return ranking if len(first) == len(ranking) else ranking[list(first.values())]


def hosts(chunks: NDArray[np.int64], table: ChunkTable, handed: Handed | None = None) -> list[Range]:
    """What each chunk hands on, as (document, start, end)."""
    columns = (table.document[chunks], table.host_start[chunks], table.host_end[chunks])
    own = list(zip(*(column.tolist() for column in columns), strict=True))
    return (
        own if handed is None else [handed.get(chunk, row) for chunk, row in zip(chunks.tolist(), own, strict=True)]
    )


def shared(one: Range, others: list[Range]) -> int:
    """Characters of a range that any of the others holds."""
    total = reached = 0
    inside = [(max(one[1], low), min(one[2], high)) for document, low, high in others if document == one[0]]
    for low, high in sorted(inside):
        low = max(low, reached)
        if high > low:
            total += high - low
            reached = high
    return total
