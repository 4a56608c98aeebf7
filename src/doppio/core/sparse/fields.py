"""BM25 over fields: title, headings and body count together, each with its own weight and length norm.

References
----------
.. [1] S. Robertson, H. Zaragoza, M. Taylor, "Simple BM25 Extension to Multiple Weighted Fields", CIKM 2004:
   counts are added over the fields before they are saturated, not scores after.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.ranking import Ids, Scores, best_of
from doppio.core.sparse.index import SparseIndex, TermShare
from doppio.core.sparse.weighting import GRID, Weighting

TITLE, HEADINGS, BODY = "title", "headings", "body"
FIELDS = (TITLE, HEADINGS, BODY)
# For every term of the question the name that it has in each field, since fields may be analysed differently.
Forms = Mapping[str, str]


@dataclass(frozen=True)
class FieldWeight:
    """How much a field counts, and how much long ones are held back."""

    weight: float
    b: float


class FieldedIndex:
    """One sparse index a field, over the same chunks in the same segments."""

    def __init__(self, fields: Mapping[str, SparseIndex]) -> None:
        self.fields = dict(fields)
        self.count = next(iter(self.fields.values())).count
        self._length_of: dict[str, NDArray[np.int32]] = {}

    def search(
        self, terms: Sequence[Forms], depth: int, weights: Mapping[str, FieldWeight], k1: float
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

        Returns
        -------
        chunks : (m,) int64 array, best first
        scores : (m,) float32 array

        Notes
        -----
        The inverse document frequency counts the chunks that hold the term in any of the fields.
        """
        scores = np.zeros(self.count)
        mixed = np.zeros(self.count)
        for forms in terms:
            touched, idf = self._mix(forms, weights, mixed)
            _saturate(touched, mixed, idf, k1, scores)
        chunks = np.flatnonzero(scores > 0)
        return best_of([(chunks, scores[chunks])], depth)

    def explain(
        self, terms: Sequence[Forms], chunks: Sequence[int], weights: Mapping[str, FieldWeight], k1: float
    ) -> list[list[TermShare]]:
        """Share of every term in the score of each chunk; the shares add up to the score."""
        rows: list[list[TermShare]] = [[] for _ in chunks]
        mixed = np.zeros(self.count)
        repeats: dict[tuple[tuple[str, str], ...], int] = {}
        for forms in terms:
            key = tuple(sorted(forms.items()))
            repeats[key] = repeats.get(key, 0) + 1
        for key, times in repeats.items():
            forms = dict(key)
            counts = np.zeros(self.count, np.int64)
            for name in weights:
                holders, held = self.fields[name].holders(forms[name]) if name in forms else (_NO_IDS, _NO_IDS)
                counts[holders] += held
            touched, idf = self._mix(forms, weights, mixed)
            shares = np.zeros(self.count)
            _saturate(touched, mixed, idf, k1, shares)
            name = forms.get(BODY) or next(iter(forms.values()))
            for row, chunk in zip(rows, chunks, strict=True):
                row.append(
                    TermShare(name, times, int(counts[chunk]), len(touched), idf, times * float(shares[chunk]))
                )
        return rows

    def _mix(
        self, forms: Forms, weights: Mapping[str, FieldWeight], mixed: NDArray[np.float64]
    ) -> tuple[NDArray[np.int64], float]:
        """Add the weighted counts of a term over the fields into `mixed`; returns the chunks, and the term's idf."""
        touched = [_NO_IDS]
        for name, setting in weights.items():
            if name not in forms:
                continue
            index = self.fields[name]
            holders, counts = index.holders(forms[name])
            norms = 1 - setting.b + setting.b * self._lengths(name)[holders] / index.mean
            mixed[holders] += setting.weight * counts / norms
            touched.append(holders)
        found = np.unique(np.concatenate(touched))
        return found, Weighting().idf(self.count, len(found))

    def _lengths(self, name: str) -> NDArray[np.int32]:
        if name not in self._length_of:
            self._length_of[name] = self.fields[name].lengths()
        return self._length_of[name]


_NO_IDS = np.empty(0, np.int64)


@njit(cache=True, nogil=True)
def _saturate(
    touched: NDArray[np.int64], mixed: NDArray[np.float64], idf: float, k1: float, scores: NDArray[np.float64]
) -> None:
    """Add a term's share to the scores and clear its counts."""
    for place in range(touched.size):
        chunk = touched[place]
        share = idf * mixed[chunk] * (k1 + 1.0) / (k1 + mixed[chunk])
        scores[chunk] += (share + GRID) - GRID
        mixed[chunk] = 0.0
