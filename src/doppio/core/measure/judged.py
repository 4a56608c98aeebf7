"""A ranking with the relevance of its chunks, as metrics look at it."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.relevance import Relevance

NEVER = np.iinfo(np.int64).max
Range = tuple[int, int, int]


@dataclass(frozen=True)
class Judged:
    """One ranking for one answerable question; what several metrics look at is worked out once.

    ranking : (n,) int64, chunks, best first
    """

    ranking: NDArray[np.int64]
    relevance: Relevance
    table: ChunkTable

    @cached_property
    def matrix(self) -> NDArray[np.bool_]:
        """(spans, n) bool: is the n-th ranked chunk relevant to the m-th span?"""
        return self.relevance.matrix(self.ranking)

    @cached_property
    def relevant(self) -> NDArray[np.bool_]:
        """(n,) bool: is the chunk relevant to any span?"""
        return np.asarray(self.matrix.any(axis=0))

    @cached_property
    def met(self) -> NDArray[np.bool_]:
        """(spans,) bool: has the span a relevant chunk anywhere in the ranking?"""
        return np.asarray(self.matrix.any(axis=1))

    @cached_property
    def first(self) -> NDArray[np.int64]:
        """(spans,) int64: place of the first chunk that is relevant to each span, from 0; `NEVER` without one."""
        spans, length = self.matrix.shape
        if not length:
            return np.full(spans, NEVER)
        return np.where(self.met, self.matrix.argmax(axis=1), NEVER)

    @cached_property
    def spans(self) -> list[Range]:
        """Spans that have offsets, as (document, start, end)."""
        return [span for span in self.relevance.ranges if span is not None]

    def pieces(self, k: int) -> list[Range]:
        """What the first `k` chunks hand on; chunks of one host hand on the same text, and it is paid for once."""
        table = self.table
        return list(
            dict.fromkeys(
                (int(table.document[chunk]), int(table.host_start[chunk]), int(table.host_end[chunk]))
                for chunk in self.ranking[:k]
            )
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
