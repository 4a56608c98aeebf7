"""The sparse index over segments that stand on other machines; see `branches.spread`."""

import threading
from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import TermShare
from doppio.core.branches.sparse.index import Segment, SparseIndex, Terms
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.branches.spread import Index, Mask, Spread, Sums, packed, totals, unpacked
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.rows import rows_of
from doppio.core.ranking import Ids, Scores, best_of
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.pieces import Opening
from doppio.core.store.segments import Stand

# Chunks that hold a term, and how often it stands in them.
Statistics = Mapping[str, tuple[int, int]]


class PartIndex(SparseIndex):
    """Some segments of an index; with each question it is told the statistics of all."""

    def __init__(self, segments: Sequence[Segment], count: int, length: int) -> None:
        super().__init__(segments)
        self.own = self.count, self.length
        if count:
            self.count, self.length = count, length
        self._told = threading.local()

    def totals(self) -> tuple[int, int]:
        """Chunks of these segments, and their terms."""
        return self.own

    def statistics(self, term: str) -> tuple[int, int]:
        """Those of all segments, as they were told with the question."""
        found: tuple[int, int] = self._told.known[term]
        return found

    def own_statistics(self, terms: Sequence[str]) -> list[tuple[int, int]]:
        """Those of these segments."""
        return [super(PartIndex, self).statistics(term) for term in terms]

    def candidates_many(
        self, questions: Sequence[Terms], depth: int, weighting: Weighting, known: Statistics, mask: Mask
    ) -> list[tuple[Ids, NDArray[np.float64]]]:
        """For each question the best chunks of these segments, in any order, with full scores."""
        self._told.known = known
        allowed = unpacked(mask)
        return [self.candidates(terms, depth, weighting, allowed=allowed) for terms in questions]

    def own_explained(
        self, terms: Terms, chunks: Sequence[int], weighting: Weighting, known: Statistics
    ) -> tuple[NDArray[np.bool_], list[list[TermShare]], list[float]]:
        """Which of the chunks are here, and what `explain` says of them."""
        self._told.known = known
        return self.here(chunks), *self.explain(terms, chunks, weighting)

    def own_norms(self, chunks: Ids, weighting: Weighting) -> tuple[NDArray[np.bool_], NDArray[np.float32]]:
        """Which of the chunks are here, and their norms."""
        return self.here(chunks.tolist()), self.norms_of(chunks, weighting)

    def here(self, chunks: Sequence[int]) -> NDArray[np.bool_]:
        """Which of the chunks are in these segments."""
        wanted, found = np.asarray(chunks, np.int64), np.zeros(len(chunks), bool)
        for segment in self.segments:
            found[rows_of(segment.now, len(segment.postings), wanted)[0]] = True
        return found


class SpreadSparse(SparseIndex):
    """All segments, wherever they stand, as one index.

    Raises
    ------
    DoppioError
        If not all of them answer while it is opened.
    """

    def __init__(self, spread: Spread, index: Index) -> None:
        super().__init__([])
        self._spread = spread
        self.count, self.length = np.sum(totals(spread, index), axis=0).tolist()
        self._index = Index(index.open, (*index.given, self.count, self.length))
        self._sums: Sums[str] = Sums(spread, self._index, "own_statistics")

    def statistics(self, term: str) -> tuple[int, int]:
        return self._statistics([term])[term]

    def _statistics(self, terms: Sequence[str]) -> dict[str, tuple[int, int]]:
        """Those of several terms at once."""
        return self._sums.of(terms)

    def search(
        self,
        terms: Terms,
        depth: int,
        weighting: Weighting,
        *,
        exhaustive: bool | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, Scores]:
        return next(self.search_many([terms], depth, weighting, allowed=allowed))

    def search_many(
        self,
        questions: Sequence[Terms],
        depth: int,
        weighting: Weighting,
        *,
        threads: int = 2,
        allowed: NDArray[np.bool_] | None = None,
    ) -> Iterator[tuple[Ids, Scores]]:
        known = self._statistics([term for terms in questions for term in terms])
        given = questions, depth, weighting, known, packed(allowed)
        answers = self._spread.ask(self._index, "candidates_many", *given)
        for row in range(len(questions)):
            yield best_of([part[row] for part in answers.found], depth)

    def explain(
        self, terms: Terms, chunks: Sequence[int], weighting: Weighting
    ) -> tuple[list[list[TermShare]], list[float]]:
        known = self._statistics(list(terms))
        rows: list[list[TermShare]] = [[] for _ in chunks]
        lengths = [0.0] * len(chunks)
        for here, told, extra in self._spread.ask(
            self._index, "own_explained", terms, list(chunks), weighting, known
        ).found:
            for place in np.flatnonzero(here).tolist():
                rows[place], lengths[place] = told[place], extra[place]
        return rows, lengths

    def norms_of(self, chunks: Ids, weighting: Weighting) -> NDArray[np.float32]:
        norms = np.ones(len(chunks), np.float32)
        for here, found in self._spread.ask(self._index, "own_norms", np.asarray(chunks), weighting).found:
            norms[here] = found[here]
        return norms

    def holders(self, term: str) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
        found = self._spread.ask(self._index, "holders", term).found
        chunks, counts = (np.concatenate(column) for column in zip(*found, strict=True))
        order = np.argsort(chunks, kind="stable")
        return chunks[order], counts[order]

    def vocabulary(self) -> dict[str, int]:
        if self._vocabulary is None:
            answers = self._spread.ask(self._index, "vocabulary")
            found: dict[str, int] = {}
            for part in answers.found:
                for term, count in part.items():
                    found[term] = found.get(term, 0) + count
            if not answers.complete:
                return found
            self._vocabulary = found
        return self._vocabulary


def open_sparse(opening: Opening, name: str, *, spread: bool = True) -> SparseIndex:
    """The index over the postings of a piece: over segments that stand elsewhere where they do and may."""
    piece = opening.needs.pieces[name]
    if opening.spread is None or not spread:
        return SparseIndex(opened_segments(opening.store, opening.opened.stands, piece.kind, piece.of))
    return SpreadSparse(opening.spread, Index(open_part, (piece.kind, piece.of)))


def opened_segments(store: ArtifactStore, stands: Sequence[Stand], kind: str, of: str) -> list[Segment]:
    """Segments of an index, by the kind of its artifacts and what they are of."""
    return [
        Segment(Postings.opened(store.open(kind, fingerprint(stand.key, of)).arrays), stand.now) for stand in stands
    ]


def open_part(
    place: Place, stands: Sequence[Stand], kind: str, of: str, count: int = 0, length: int = 0
) -> PartIndex:
    """The index over some segments, where they stand; without the totals of all it tells its own and no more."""
    return PartIndex(opened_segments(place.store, stands, kind, of), count, length)
