"""The dense index over segments that stand on other machines; see `branches.spread`."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.metric import Floats, prepared
from doppio.core.branches.dense.structure import open_structure
from doppio.core.branches.spread import Index, Spread, Stand, packed, unpacked
from doppio.core.errors import DoppioError
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.rows import rows_of
from doppio.core.ranking import Ids, Scores, best_of
from doppio.core.store.crew import Place

Mask = tuple[NDArray[np.uint8], int] | None


class PartDense(DenseIndex):
    """Some segments of an index."""

    def totals(self) -> tuple[int, int]:
        """Chunks of these segments, and the dimension of their vectors."""
        return self.count, self.dimension

    def candidates_many(
        self, questions: Floats, depth: int, settings: Mapping[str, Any] | None, mask: Mask
    ) -> list[tuple[Ids, NDArray[np.float64]]]:
        """For each question the best chunks of these segments, in any order, with full scores."""
        found = self.candidates(questions, depth, settings, unpacked(mask))
        return [_best(parts, depth) for parts in found]

    def own_vectors(self, chunks: NDArray[np.int64]) -> tuple[NDArray[np.bool_], Floats]:
        """Which of the chunks are here, and their vectors."""
        here = np.zeros(len(chunks), bool)
        for segment in self.segments:
            here[rows_of(segment.now, len(segment.vectors), chunks)[0]] = True
        return here, self.vectors(chunks[here].tolist())


class SpreadDense(DenseIndex):
    """All segments, wherever they stand, as one index; see `SpreadSparse` for errors."""

    def __init__(self, spread: Spread, index: Index, metric: str) -> None:
        super().__init__([], metric)
        self._spread, self._index = spread, index
        totals = spread.ask(index, "totals")
        if not totals.complete:
            raise DoppioError("Not all segments of the index answered while it was opened; try again.")
        self.count = sum(count for count, _ in totals.found)
        self._dimension = max((dimension for _, dimension in totals.found), default=0)

    @property
    def dimension(self) -> int:
        return int(self._dimension)

    def search_many(
        self,
        questions: Floats,
        depth: int,
        settings: Mapping[str, Any] | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> list[tuple[Ids, Scores]]:
        if depth <= 0:
            return [(np.empty(0, np.int64), np.empty(0, np.float32))] * len(questions)
        asked = np.ascontiguousarray(questions, np.float32)
        answers = self._spread.ask(self._index, "candidates_many", asked, depth, settings, packed(allowed))
        return [best_of([part[row] for part in answers.found], depth) for row in range(len(asked))]

    def vectors(self, chunks: Sequence[int]) -> Floats:
        wanted = np.asarray(chunks, np.int64)
        found = np.zeros((len(wanted), self.dimension), np.float32)
        for here, rows in self._spread.ask(self._index, "own_vectors", wanted).found:
            found[here] = rows
        return found


def _best(parts: Sequence[tuple[Ids, NDArray[np.float64]]], depth: int) -> tuple[Ids, NDArray[np.float64]]:
    """The best of several lists with their full scores; more where the last are equal."""
    ids = np.concatenate([np.empty(0, np.int64), *(own for own, _ in parts)])
    scores = np.concatenate([np.empty(0), *(own for _, own in parts)])
    if scores.size <= depth:
        return ids, scores
    near = scores >= np.partition(scores, scores.size - depth)[scores.size - depth]
    return ids[near], scores[near]


def open_part(
    place: Place,
    stands: Sequence[Stand],
    metric: str,
    vectors: tuple[str, str],
    structure: tuple[str, str, str] | None,
) -> PartDense:
    """The index over some segments, where they stand.

    Parameters
    ----------
    vectors : kind of the artifacts, and what they are of
    structure : the same of the structures over them, and their kind; None where every vector is compared
    """
    segments = []
    for stand in stands:
        kind, of = vectors
        found = place.store.open(kind, fingerprint(stand.key, of)).arrays
        over = None
        if structure is not None:
            kind, of, name = structure
            over = open_structure(name, place.store.open(kind, fingerprint(stand.key, of)).arrays)
        segments.append(Segment(prepared(found["vectors"], found["squares"], metric), over, stand.now))
    return PartDense(segments, metric)
