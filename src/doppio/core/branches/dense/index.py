"""The dense index as a question sees it: segments with their deletions, one ranking by the metric."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.exact import exact_candidates
from doppio.core.branches.dense.metric import (
    COSINE,
    Floats,
    Vectors,
    length_spread,
    of_unit_length,
    score_rows,
    shown,
)
from doppio.core.branches.dense.structure import Structure
from doppio.core.kernels.rows import named, rows_of
from doppio.core.kernels.spans import THREADS
from doppio.core.ranking import Ids, Scores, best_of

VECTORS = "vectors"
_NONE_DEAD = np.empty(0, np.bool_)
# Share of a segment's rows that are compared one by one where only they may be found.
FEW = 0.2


@dataclass(frozen=True)
class Segment:
    """Vectors of some chunks, the structure over them, and which chunks of the index they are.

    structure : Structure or None where every vector is compared
    now : (n,) int64, the number of each in the index, rising; -1 where it is deleted; empty where it is its place
    """

    vectors: Vectors
    structure: Structure | None = None
    now: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))


class DenseIndex:
    """Segments that are searched as one.

    Notes
    -----
    Structures only propose: every score that leaves here was computed from the full vectors, in one fixed order of
    addition. So an exact search gives the same numbers however the chunks are spread over segments.
    """

    def __init__(self, segments: Sequence[Segment], metric: str = COSINE) -> None:
        self.segments = list(segments)
        self.metric = metric
        self._dead = [s.now < 0 if (s.now < 0).any() else _NONE_DEAD for s in self.segments]
        self.count = sum(len(s.vectors) - int(dead.sum()) for s, dead in zip(self.segments, self._dead, strict=True))

    @property
    def dimension(self) -> int:
        return int(self.segments[0].vectors.rows.shape[1]) if self.segments else 0

    @property
    def vector_bytes(self) -> int:
        return sum(s.vectors.rows.nbytes for s in self.segments)

    @property
    def structure_bytes(self) -> int:
        return sum(s.structure.bytes for s in self.segments if s.structure)

    @property
    def length_spread(self) -> float:
        """How unequal the vectors are in length, where the metric looks at it; see `metric.length_spread`."""
        return length_spread(np.concatenate([s.vectors.squares for s in self.segments])) if self.segments else 0.0

    def search(self, question: Floats, depth: int, settings: Mapping[str, Any] | None = None) -> tuple[Ids, Scores]:
        """Rank chunks for one question; see `search_many`."""
        return self.search_many(question[None], depth, settings)[0]

    def search_many(
        self,
        questions: Floats,
        depth: int,
        settings: Mapping[str, Any] | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> list[tuple[Ids, Scores]]:
        """Rank chunks for each of q questions.

        Parameters
        ----------
        questions : (q, d) float32 array
            Brought to unit length where the metric is the cosine and they are not.
        depth : int
            Chunks to return; an exact search returns min(depth, count) of them, however far away they are.
        settings : mapping or None
            The recipe's `structure`: what its kind takes, and `over_fetch`, how many times `depth` candidates are
            scored with their full vectors; None compares with every vector, whatever structures there are.
        allowed : (chunks,) bool array or None
            The chunks that may be found; None where all may.

        Returns
        -------
        list of q pairs
            Chunks (int64, best first) and scores (float32, larger is better).

        Notes
        -----
        Conditions are met inside of each structure, so as many hits come back as there are. Where few rows of a
        segment may be found, `FEW` of them at most, their vectors are compared one by one, which is exact whatever
        the structure; otherwise the structure proposes more, by as much as fewer may be found.
        """
        return [best_of(parts, depth) for parts in self.candidates(questions, depth, settings, allowed)]

    def candidates(
        self,
        questions: Floats,
        depth: int,
        settings: Mapping[str, Any] | None,
        allowed: NDArray[np.bool_] | None,
    ) -> list[list[tuple[Ids, NDArray[np.float64]]]]:
        """What `search_many` chooses from, by question and segment, with scores before they are rounded."""
        if depth <= 0 or not self.segments:
            return [[] for _ in questions]
        questions = np.ascontiguousarray(questions, np.float32)
        if self.metric == COSINE:
            questions = of_unit_length(questions)
        parts: list[list[tuple[Ids, NDArray[np.float64]]]] = [[] for _ in questions]
        for segment, dead in zip(self.segments, self._dead, strict=True):
            proposed = self._allowed(segment, dead, questions, depth, settings, allowed)
            for row, rows in enumerate(proposed):
                scores = score_rows(segment.vectors.rows, segment.vectors.halves, questions[row], rows)
                ids = segment.now[rows] if segment.now.size else rows
                parts[row].append((ids, shown(scores, questions[row], self.metric)))
        return parts

    def _allowed(
        self,
        segment: Segment,
        dead: NDArray[np.bool_],
        questions: Floats,
        depth: int,
        settings: Mapping[str, Any] | None,
        allowed: NDArray[np.bool_] | None,
    ) -> list[NDArray[np.int64]]:
        """Rows that are proposed, among those that may be found."""
        if allowed is None:
            return self._proposed(segment, dead, questions, depth, settings)
        there = named(allowed, segment.now)
        rows = np.flatnonzero(there)
        if len(rows) <= FEW * len(segment.vectors):
            return [rows] * len(questions)
        if segment.structure is not None and settings is not None:
            settings = {**settings, "over_fetch": settings["over_fetch"] * len(there) / len(rows)}
        return self._proposed(segment, ~there, questions, depth, settings)

    def _proposed(
        self,
        segment: Segment,
        dead: NDArray[np.bool_],
        questions: Floats,
        depth: int,
        settings: Mapping[str, Any] | None,
    ) -> list[NDArray[np.int64]]:
        structure, vectors = segment.structure, segment.vectors
        if structure is None or settings is None:
            return exact_candidates(vectors, questions, depth, dead)
        count = int(np.ceil(depth * settings["over_fetch"]))

        def one(question: Floats) -> NDArray[np.int64]:
            return structure.candidates(vectors, question, count, settings, dead)

        if len(questions) == 1:
            return [one(questions[0])]
        with ThreadPoolExecutor(THREADS) as pool:
            return list(pool.map(one, questions))

    def vectors(self, chunks: Sequence[int]) -> Floats:
        """Full vectors of chunks, in the order asked for: (m, d) float32."""
        wanted = np.asarray(chunks, np.int64)
        found = np.zeros((len(wanted), self.dimension), np.float32)
        for segment in self.segments:
            here, rows = rows_of(segment.now, len(segment.vectors), wanted)
            found[here] = segment.vectors.rows[rows]
        return found
