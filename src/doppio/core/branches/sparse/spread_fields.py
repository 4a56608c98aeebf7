"""The fields of chunks over segments that stand on other machines; see `branches.spread`."""

import threading
from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import TermShare
from doppio.core.branches.sparse.fields import FieldedIndex, FieldWeight, Forms, Named, named_forms
from doppio.core.branches.sparse.index import SparseIndex
from doppio.core.branches.sparse.spread import PartIndex, opened_segments
from doppio.core.branches.spread import Index, Mask, Spread, Sums, packed, unpacked
from doppio.core.ranking import Ids, Scores, best_of
from doppio.core.store.crew import Place
from doppio.core.store.pieces import Opening
from doppio.core.store.segments import Stand

Weights = Mapping[str, FieldWeight]
# Chunks that hold a term in any of the fields, by the names that it has in them.
Held = Mapping[Named, int]
# A field, the kind of its artifacts and what they are of, and the chunks and terms of all segments.
Field = tuple[str, str, str, int, int]


class PartFields(FieldedIndex):
    """Some segments of an index over fields; with each question it is told how many chunks of all hold each term."""

    def __init__(self, fields: Mapping[str, PartIndex]) -> None:
        super().__init__(fields)
        self._first = next(iter(fields.values()))
        self._told = threading.local()

    def _held(self, forms: Forms, weights: Weights) -> int:
        found: int = self._told.known[named_forms(forms, weights)]
        return found

    def own_held(self, terms: Sequence[Named], weights: Weights) -> list[int]:
        """How many chunks of these segments hold each term."""
        return [self.holding(dict(names), weights) for names in terms]

    def candidates_told(
        self, terms: Sequence[Forms], depth: int, weights: Weights, k1: float, counted: Sequence[float] | None,
        known: Held, mask: Mask, exhaustive: bool | None,
    ) -> tuple[Ids, NDArray[np.float64]]:  # fmt: skip
        """The best chunks of these segments, in any order, with full scores."""
        self._told.known = known
        allowed = unpacked(mask)
        return self.candidates(terms, depth, weights, k1, counted=counted, allowed=allowed, exhaustive=exhaustive)

    def own_explained(
        self, terms: Sequence[Forms], chunks: Sequence[int], weights: Weights, k1: float,
        counted: Sequence[float] | None, known: Held,
    ) -> tuple[NDArray[np.bool_], list[list[TermShare]]]:  # fmt: skip
        """Which of the chunks are here, and what `explain` says of them."""
        self._told.known = known
        return self._first.here(chunks), self.explain(terms, chunks, weights, k1, counted)


class SpreadFields(FieldedIndex):
    """All segments, wherever they stand, as one index over fields.

    fields : each spread by itself, for what is asked of one field
    """

    def __init__(self, spread: Spread, fields: Mapping[str, SparseIndex], index: Index) -> None:
        super().__init__(fields)
        self._spread, self._index = spread, index
        self._sums: Sums[Named] = Sums(spread, index, "own_held")

    def _of_all(self, terms: Sequence[Forms], weights: Weights) -> dict[Named, int]:
        """How many chunks hold each term."""
        return self._sums.of([named_forms(forms, weights) for forms in terms], dict(weights))

    def search(
        self,
        terms: Sequence[Forms],
        depth: int,
        weights: Weights,
        k1: float,
        *,
        exhaustive: bool | None = None,
        counted: Sequence[float] | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, Scores]:
        given = list(terms), depth, dict(weights), k1, counted, self._of_all(terms, weights), packed(allowed)
        return best_of(self._spread.ask(self._index, "candidates_told", *given, exhaustive).found, depth)

    def explain(
        self,
        terms: Sequence[Forms],
        chunks: Sequence[int],
        weights: Weights,
        k1: float,
        counted: Sequence[float] | None = None,
    ) -> list[list[TermShare]]:
        rows: list[list[TermShare]] = [[] for _ in chunks]
        given = list(terms), list(chunks), dict(weights), k1, counted, self._of_all(terms, weights)
        for here, told in self._spread.ask(self._index, "own_explained", *given).found:
            for place in np.flatnonzero(here).tolist():
                rows[place] = told[place]
        return rows


def open_fields(opening: Opening, fields: Mapping[str, SparseIndex]) -> FieldedIndex:
    """The index over the fields of chunks, over segments that stand elsewhere where they do."""
    if opening.spread is None:
        return FieldedIndex(fields)
    pieces = opening.needs.pieces
    given = tuple((name, pieces[name].kind, pieces[name].of, one.count, one.length) for name, one in fields.items())
    return SpreadFields(opening.spread, fields, Index(open_part_fields, given))


def open_part_fields(place: Place, stands: Sequence[Stand], *fields: Field) -> PartFields:
    """The fields of some segments, where they stand."""
    return PartFields(
        {
            name: PartIndex(opened_segments(place.store, stands, kind, of), count, length)
            for name, kind, of, count, length in fields
        }
    )
