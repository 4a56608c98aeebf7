"""BM25 over fields: title, headings and body count together, each with its own weight and length norm.

References
----------
.. [1] S. Robertson, H. Zaragoza, M. Taylor, "Simple BM25 Extension to Multiple Weighted Fields", CIKM 2004:
   counts are added over the fields before they are saturated, not scores after.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.at_hand import kept
from doppio.core.branches.explained import TermShare
from doppio.core.branches.sparse.field_ranges import best_in_field_ranges, fill_field_tops
from doppio.core.branches.sparse.field_scan import (
    MOST_FIELDS,
    Lists,
    field_units,
    held_in_any,
    scan_fields,
    scan_fields_all,
    share_from,
)
from doppio.core.branches.sparse.index import SETTINGS_KEPT, ZEROS, SparseIndex
from doppio.core.branches.sparse.ranges import LARGE, TERMS_IN_RANGES
from doppio.core.branches.sparse.scan import FIRST_WINDOW, offer_all
from doppio.core.branches.sparse.tops import Tops
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.kernels.rows import named, rows_of
from doppio.core.ranking import Ids, Scores, best_of

# Terms whose chunks have been counted over the fields.
HELD_KEPT = 20_000
TITLE, HEADINGS, BODY = "title", "headings", "body"
FIELDS = (TITLE, HEADINGS, BODY)
# For every term of the question the name that it has in each field, since fields may be analysed differently.
Forms = Mapping[str, str]
Named = tuple[tuple[str, str], ...]
# A term of a question, how often it is asked, and its weight.
Asked = tuple[Forms, float, float]


@dataclass(frozen=True)
class FieldWeight:
    """How much a field counts, and how much long ones are held back."""

    weight: float
    b: float


class FieldedIndex:
    """One sparse index a field, over the same chunks in the same segments."""

    def __init__(self, fields: Mapping[str, SparseIndex]) -> None:
        self.fields = dict(fields)
        self._names = [name for name in FIELDS if name in self.fields]
        first = next(iter(self.fields.values()))
        self.count = first.count
        self._segments = [(segment.now, segment.dead) for segment in first.segments]
        self._lists_of: dict[tuple[int, tuple[tuple[str, FieldWeight], ...]], Lists] = {}
        self._tops: dict[tuple[int, float, tuple[tuple[str, FieldWeight], ...]], Tops] = {}
        self._held_of: dict[Named, int] = {}

    def search(
        self,
        terms: Sequence[Forms],
        depth: int,
        weights: Mapping[str, FieldWeight],
        k1: float,
        *,
        exhaustive: bool | None = None,
        counted: Sequence[float] | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, Scores]:
        """Rank chunks by BM25F.

        Parameters
        ----------
        terms : sequence of mappings from field to term
            A term that stands twice counts twice.
        depth : int
        weights : mapping from field to FieldWeight
            A field that is not named is left out.
        k1 : float
        exhaustive, allowed
            As `SparseIndex.search` takes them.
        counted : sequence of float or None
            How much each term counts; None where each counts once.

        Returns
        -------
        chunks : (m,) int64 array, best first
        scores : (m,) float32 array

        Notes
        -----
        The inverse document frequency counts the chunks that hold the term in any of the fields.
        """
        return best_of(
            [self.candidates(terms, depth, weights, k1, exhaustive=exhaustive, counted=counted, allowed=allowed)],
            depth,
        )

    def candidates(
        self,
        terms: Sequence[Forms],
        depth: int,
        weights: Mapping[str, FieldWeight],
        k1: float,
        *,
        exhaustive: bool | None = None,
        counted: Sequence[float] | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, NDArray[np.float64]]:
        """The chunks that `search` ranks, in any order, with full scores."""
        asked = self._asked(terms, weights, counted)
        if not asked or depth <= 0:
            return _NO_IDS, _NOTHING
        heap_scores, heap_chunks = np.empty(min(depth, self.count)), np.empty(min(depth, self.count), np.int64)
        size = 0
        for place, (now, dead) in enumerate(self._segments):
            if allowed is not None:
                dead = ~named(allowed, now)
            chunks, lists = len(self.fields[self._names[0]].segments[place].postings), self._lists(place, weights)
            if chunks <= FIRST_WINDOW if exhaustive is None else exhaustive:
                scores = ZEROS.take(chunks)
                scan_fields_all(*self._pairs(place, asked, weights), _weights_of(asked), k1, lists, scores)
                size = offer_all(scores, _NOTHING, 0.0, dead, now, heap_scores, heap_chunks, size)
                ZEROS.give(scores)
            else:
                size = self._best(place, asked, weights, k1, lists, (dead, now, heap_scores, heap_chunks, size))
        return heap_chunks[:size], heap_scores[:size]

    def _best(  # type: ignore[no-untyped-def]
        self, place: int, asked: list[Asked], weights: Mapping[str, FieldWeight], k1: float, lists: Lists, heap
    ) -> int:
        """Offer the best chunks of a segment to a heap, by ranges where few of them can hold one."""
        chunks = len(self.fields[self._names[0]].segments[place].postings)
        floor = heap[2][0] if heap[4] == len(heap[2]) else -np.inf
        if chunks > LARGE and len(asked) <= TERMS_IN_RANGES:
            tops = kept(
                self._tops,
                (place, k1, tuple(sorted(weights.items(), key=lambda item: item[0]))),
                lambda: Tops(chunks),
                SETTINGS_KEPT * max(len(self._segments), 1),
            )
            terms, done = [tuple(self._numbers(place, forms)) for forms, _, _ in asked], False
            with tops.read(
                terms, lambda own, fine, coarse: fill_field_tops(np.array(own), k1, lists, chunks, fine, coarse)
            ) as rows:
                if rows is not None:
                    steps = tops.steps[rows] * _weights_of(asked)
                    order = np.argsort(steps)
                    asked = [asked[at] for at in order]
                    size, floor, done = best_in_field_ranges(
                        np.array(rows)[order], steps[order], tops.fine, tops.coarse, floor,
                        *self._pairs(place, asked, weights), _weights_of(asked), k1, lists, chunks, *heap
                    )  # fmt: skip
            if done:
                return int(size)
        pairs = self._pairs(place, asked, weights)
        return int(scan_fields(*pairs, _weights_of(asked), k1, lists, chunks, floor, *heap))

    def explain(
        self,
        terms: Sequence[Forms],
        chunks: Sequence[int],
        weights: Mapping[str, FieldWeight],
        k1: float,
        counted: Sequence[float] | None = None,
    ) -> list[list[TermShare]]:
        """Share of every term in the score of each chunk; the shares add up to the score."""
        wanted = np.asarray(chunks, np.int64)
        rows: list[list[TermShare]] = [[] for _ in chunks]
        for forms, repeats, weight in self._asked(terms, weights, counted, all_of_them=True):
            counts, mixed = np.zeros(len(wanted), np.int64), np.zeros(len(wanted), np.float32)
            for place, (now, _) in enumerate(self._segments):
                here, local = rows_of(now, len(self.fields[self._names[0]].segments[place].postings), wanted)
                pulls = self._lists(place, weights).pulls
                for field, name in enumerate(self._names):
                    if name in forms and name in weights:
                        postings = self.fields[name].segments[place].postings
                        held = postings.counts(postings.number(forms[name]), local)
                        counts[here] += held
                        mixed[here] += held.astype(np.float32) * pulls[field][local]
            shares = np.zeros(len(wanted))
            there = mixed > 0
            shares[there] = _shares(weight, mixed[there], k1)
            held_in, name = self._held(forms, weights), forms.get(BODY) or next(iter(forms.values()))
            idf = Weighting().idf(self.count, held_in)
            for row, count, share in zip(rows, counts.tolist(), shares.tolist(), strict=True):
                row.append(TermShare(name, repeats, count, held_in, idf, share))
        return rows

    def _asked(
        self,
        terms: Sequence[Forms],
        weights: Mapping[str, FieldWeight],
        counted: Sequence[float] | None = None,
        all_of_them: bool = False,
    ) -> list[Asked]:
        """Terms with their repeats and weights; without those that no chunk holds unless all are asked for."""
        repeats: dict[Named, float] = {}
        for forms, share in zip(terms, counted or [1] * len(terms), strict=True):
            key = tuple(sorted(forms.items()))
            repeats[key] = repeats.get(key, 0) + share
        found: list[Asked] = []
        for key, times in repeats.items():
            held = self._held(dict(key), weights)
            if held or all_of_them:
                found.append((dict(key), times, times * Weighting().idf(self.count, held)))
        return found

    def _held(self, forms: Forms, weights: Mapping[str, FieldWeight]) -> int:
        """How many chunks hold a term in any of the fields; counted once a term."""
        key = named_forms(forms, weights)
        return kept(self._held_of, key, lambda: self.holding(dict(key), weights), HELD_KEPT)

    def holding(self, forms: Forms, weights: Mapping[str, FieldWeight]) -> int:
        """How many chunks of these segments hold a term in any of the fields, counted anew."""
        return sum(
            int(
                held_in_any(
                    np.array(self._numbers(place, forms), np.int64),
                    self._lists(place, weights),
                    dead,
                    len(self.fields[self._names[0]].segments[place].postings),
                )
            )
            for place, (_, dead) in enumerate(self._segments)
        )

    def _numbers(self, place: int, forms: Forms) -> list[int]:
        """The number of a term in every field of a segment, -1 where it has none."""
        return [
            self.fields[name].segments[place].postings.number(forms[name]) if name in forms else -1
            for name in self._names
        ]

    def _pairs(
        self, place: int, asked: Sequence[Asked], weights: Mapping[str, FieldWeight]
    ) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        """Lists to read in a segment: where each term's begin, their fields and their numbers."""
        begins, fields, numbers = [0], [], []
        for forms, _, _ in asked:
            for field, number in enumerate(self._numbers(place, forms)):
                name = self._names[field]
                if number >= 0 and name in weights and weights[name].weight > 0:
                    fields.append(field)
                    numbers.append(number)
            begins.append(len(fields))
        return np.array(begins, np.int64), np.array(fields, np.int64), np.array(numbers, np.int64)

    def _lists(self, place: int, weights: Mapping[str, FieldWeight]) -> Lists:
        """What the fields of a segment hold, with bounds and norms for these weights; made once a setting."""
        key = place, tuple(sorted(weights.items(), key=lambda item: item[0]))
        most = SETTINGS_KEPT * max(len(self._segments), 1)
        return kept(self._lists_of, key, lambda: self._made(place, weights), most)

    def _made(self, place: int, weights: Mapping[str, FieldWeight]) -> Lists:
        columns: list[list[NDArray[Any]]] = []
        for name in self._names:
            index = self.fields[name]
            p = index.segments[place].postings
            setting = weights.get(name, FieldWeight(0.0, 0.0))
            base, rise = 1 - setting.b, setting.b / index.mean
            # A field of a text without words has no length, and nothing to hold back.
            norms = np.maximum(base + rise * p.lengths.astype(np.float64), 1e-9)
            units = field_units(p.peak_begins, p.peaks, setting.weight, max(base, 1e-9), rise)
            columns.append(
                [p.held, p.block_begins, p.block_last, p.block_at, p.block_bits, p.data, units,
                 (setting.weight / norms).astype(np.float32)]
            )  # fmt: skip
        columns += columns[-1:] * (MOST_FIELDS - len(columns))
        return Lists(*(tuple(column) for column in zip(*columns, strict=True)))


def named_forms(forms: Forms, weights: Mapping[str, FieldWeight]) -> Named:
    """A term by its names in the fields that count."""
    return tuple(sorted((name, form) for name, form in forms.items() if name in weights))


def _weights_of(asked: Sequence[Asked]) -> NDArray[np.float64]:
    return np.array([weight for _, _, weight in asked])


_NO_IDS = np.empty(0, np.int64)
_NOTHING = np.empty(0, np.float64)


@njit(cache=True, nogil=True)
def _shares(weight, mixed, k1):  # type: ignore[no-untyped-def]
    found = np.empty(mixed.size, np.float64)
    for at in range(mixed.size):
        found[at] = share_from(weight, mixed[at], k1)
    return found
