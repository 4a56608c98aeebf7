"""The dense index over segments that stand on other machines; see `branches.spread`."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.metric import Floats, prepared
from doppio.core.branches.dense.structure import open_structure
from doppio.core.branches.spread import Index, Mask, Spread, packed, totals, unpacked
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.mapping import read_here_and_there
from doppio.core.kernels.rows import rows_of
from doppio.core.ranking import Ids, Scores, best_of, joined, reaching
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.segments import Stand


class PartDense(DenseIndex):
    """Some segments of an index."""

    def totals(self) -> tuple[int, int]:
        """Chunks of these segments, and the dimension of their vectors."""
        return self.count, self.dimension

    def candidates_many(
        self, questions: Floats, depth: int, settings: Mapping[str, Any] | None, mask: Mask
    ) -> list[tuple[Ids, NDArray[np.floating]]]:
        """For each question the best chunks of these segments, in any order, with full scores."""
        found = self.candidates(questions, depth, settings, unpacked(mask))
        return [reaching(*joined(parts), depth) for parts in found]

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
        told = totals(spread, index)
        self.count = sum(count for count, _ in told)
        self._dimension = max((dimension for _, dimension in told), default=0)

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
        asked = np.ascontiguousarray(questions, np.float32)
        answers = self._spread.ask(self._index, "candidates_many", asked, depth, settings, packed(allowed))
        return [best_of([part[row] for part in answers.found], depth) for row in range(len(asked))]

    def vectors(self, chunks: Sequence[int]) -> Floats:
        wanted = np.asarray(chunks, np.int64)
        found = np.zeros((len(wanted), self.dimension), np.float32)
        for here, rows in self._spread.ask(self._index, "own_vectors", wanted).found:
            found[here] = rows
        return found


# Kind of an artifact, and what it is of.
Artifacts = tuple[str, str]


def opened_segments(
    store: ArtifactStore,
    stands: Sequence[Stand],
    metric: str,
    vectors: Artifacts,
    structure: tuple[str, str, str] | None,
) -> list[Segment]:
    """Segments of an index.

    Parameters
    ----------
    vectors : kind of the artifacts, and what they are of
    structure : the same of the structures over them, and their kind; None where every vector is compared
    """

    def arrays(stand: Stand, kind: str, of: str) -> Mapping[str, Any]:
        return store.open(kind, fingerprint(stand.key, of)).arrays

    segments = []
    for stand in stands:
        found = arrays(stand, *vectors)
        over = None
        if structure:
            over = open_structure(structure[2], arrays(stand, *structure[:2]))
            # It says which few are worth comparing.
            read_here_and_there(found["vectors"])
        segments.append(Segment(prepared(found["vectors"], found["squares"], metric), over, stand.now))
    return segments


def open_part(
    place: Place, stands: Sequence[Stand], metric: str, vectors: Artifacts, structure: tuple[str, str, str] | None
) -> PartDense:
    """The index over some segments, where they stand; see `opened_segments`."""
    return PartDense(opened_segments(place.store, stands, metric, vectors, structure), metric)
