"""When is a chunk relevant? When it overlaps an answer span far enough, wherever chunks were cut."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.questions import Question, Span, merged
from doppio.core.trace import StageTrace

COVER = 0.5


@dataclass(frozen=True)
class Relevance:
    """Which chunks are relevant to which answers of one question.

    chunks : m int64 arrays, rising: the relevant chunks of each answer
    intact : m bools, whether one chunk holds all of the answer
    grades : (m,) float64
    ranges : m triples (document position, start, end), or None for an answer without offsets
    cover : see `relevance`
    rejected : int64, rising: chunks in which somebody looked and found no answer; none of them is relevant
    ideals : what `novelty.ideal` has worked out
    """

    chunks: tuple[NDArray[np.int64], ...]
    intact: tuple[bool, ...]
    grades: NDArray[np.float64]
    ranges: tuple[tuple[int, int, int] | None, ...]
    cover: float = COVER
    rejected: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    ideals: dict[tuple[float, int], NDArray[np.float64]] = field(default_factory=dict, compare=False, repr=False)

    def matrix(self, ranking: NDArray[np.int64]) -> NDArray[np.bool_]:
        """(m, n) bool: is the n-th ranked chunk relevant to the m-th answer?"""
        rows = [np.isin(ranking, chunks) for chunks in self.chunks]
        return np.stack(rows) if rows else np.zeros((0, len(ranking)), bool)

    def any_of(self, ranking: NDArray[np.int64]) -> NDArray[np.bool_]:
        """(n,) bool: is the n-th ranked chunk relevant to any answer?"""
        return np.asarray(self.matrix(ranking).any(axis=0))

    def at(self, stage: StageTrace) -> "Relevance":
        """Of the chunks of a stage by what they hand on there, where that is more than was found; else the same."""
        if stage.ranges is None:
            return self
        chunks = []
        for own, answer in zip(self.chunks, self.ranges, strict=True):
            if answer is None:
                chunks.append(own)
                continue
            position, low, high = answer
            met = _met(stage.ranges[:, 1], stage.ranges[:, 2], low, high, self.cover)
            chunks.append(np.unique(stage.chunks[met & (stage.ranges[:, 0] == position)]))
        return replace(self, chunks=tuple(chunks), ideals={})

    def first(self, ranking: NDArray[np.int64]) -> int | None:
        """Rank of the first chunk that is relevant to any answer, from 1; None where there is none."""
        places = self.any_of(ranking).nonzero()[0]
        return int(places[0]) + 1 if len(places) else None


def relevance(table: ChunkTable, positions: Mapping[str, int], question: Question, cover: float = COVER) -> Relevance:
    """Find the relevant chunks of a question; spans that overlap are one answer, see `merged`.

    Parameters
    ----------
    table : ChunkTable
    positions : mapping from document id to its position in the corpus
    question : Question
    cover : float
        A chunk is relevant to a span when they share at least this part of the shorter of the two, in
        characters; above 0 and at most 1.

    Notes
    -----
    What is judged is what a chunk hands on: its host where chunks are nested, and else the chunk itself.
    A span without offsets makes every chunk of its document relevant. A span of a document that is not in
    the corpus has no relevant chunk.
    """
    found = relevance_of_each(table, positions, merged(question.spans), cover)
    if not question.rejected:
        return found
    looked = relevance_of_each(table, positions, question.rejected, cover).chunks
    rejected = np.setdiff1d(np.concatenate(looked), np.concatenate([*found.chunks, np.empty(0, np.int64)]))
    return replace(found, rejected=rejected)


def relevance_of_each(
    table: ChunkTable, positions: Mapping[str, int], spans: Sequence[Span], cover: float = COVER
) -> Relevance:
    """The same for spans as they are, overlapping or not."""
    chunks: list[NDArray[np.int64]] = []
    intact: list[bool] = []
    ranges: list[tuple[int, int, int] | None] = []
    for span in spans:
        position = positions.get(span.document, -1)
        rows = table.of_document(position)
        numbers = np.arange(rows.start, rows.stop, dtype=np.int64)
        if span.start is None or span.end is None:
            chunks.append(numbers)
            intact.append(len(numbers) > 0)
            ranges.append(None)
            continue
        start, end = table.host_start[rows], table.host_end[rows]
        chunks.append(numbers[_met(start, end, span.start, span.end, cover)])
        intact.append(bool(((start <= span.start) & (end >= span.end)).any()))
        ranges.append((position, span.start, span.end))
    grades = np.array([span.grade for span in spans], np.float64)
    return Relevance(tuple(chunks), tuple(intact), grades, tuple(ranges), cover)


def _met(starts: NDArray[np.int64], ends: NDArray[np.int64], low: int, high: int, cover: float) -> NDArray[np.bool_]:
    """Which ranges of a document share enough with `[low, high)`."""
    shared = np.minimum(ends, high) - np.maximum(starts, low)
    shorter = np.minimum(ends - starts, high - low)
    return np.asarray((shared > 0) & (shared >= cover * shorter))


def document_positions(identities: Sequence[str]) -> dict[str, int]:
    return {identity: position for position, identity in enumerate(identities)}
