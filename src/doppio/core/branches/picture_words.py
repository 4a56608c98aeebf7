"""Terms of the words that go with pictures: what is read on them, and what their document says of them.

Part numbers and codes of a drawing are found by it as those of the text are by terms. A picture of which nothing is
said may be lent what is said of those that look like it.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.bm25 import SparseBranch
from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.picture.lending import Lending, fitted
from doppio.core.branches.picture.making import PICTURES, PICTURES_MAKER, Pictures, pictures_piece
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.sparse.making import PICTURE_WORDS, POSTINGS, pieces_of
from doppio.core.branches.sparse.settings import ANALYSIS, analysis_problems
from doppio.core.branches.sparse.spread import open_sparse
from doppio.core.branches.sparse.terms import weighed_terms
from doppio.core.branches.sparse.weighting import OKAPI
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, group, number
from doppio.core.ranking import Ids, best_of
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

# Chunks and their scores, in any order.
Scored = tuple[Ids, NDArray[np.float64]]
# What a branch of terms has and this one does not let be set.
PLAIN = {"variant": OKAPI, "nearness": 0, "fields": None, "delta": None, "mu": 1000}


@dataclass(frozen=True)
class PictureWordsBranch(SparseBranch):
    """An opened branch.

    lending : None where nothing is lent
    """

    lending: Lending | None = None

    @property
    def measure(self) -> str:
        return super().measure if self.lending is None else "BM25 score with what is lent by looks, 0 upwards"

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks that carry pictures for each question."""
        if self.lending is None:
            return super().search_asked(queries, vectors, depth, allowed)
        return [self._ranked(self.lending, query, depth, allowed) for query in queries]

    def _ranked(self, lending: Lending, query: Query, depth: int, allowed: Allowed) -> Ranking:
        chunks, scores = self._scored(query)
        borrowers, lent = self._lent(lending, chunks, scores, allowed)
        if allowed is not None:
            chunks, scores = chunks[allowed[chunks]], scores[allowed[chunks]]
        both, place = np.unique(np.concatenate([chunks, borrowers]), return_inverse=True)
        sums = np.zeros(len(both))
        np.add.at(sums, place, np.concatenate([scores, lent]))
        return best_of([(both, sums)], depth)

    def _scored(self, query: Query) -> Scored:
        """All chunks with a term of the question: few chunks carry pictures with words."""
        terms = weighed_terms(self.settings, query)
        chunks, scores = self.body.search(terms, self.body.count, self.weighting, exhaustive=True)
        return chunks, scores.astype(np.float64)

    def _lent(self, lending: Lending, chunks: Ids, scores: NDArray[np.float64], allowed: Allowed = None) -> Scored:
        borrowers, lent = lending.lent(chunks, scores, allowed)
        return borrowers, float(self.settings["lent"]) * lent

    def explain_asked(self, query: Query, chunks: Sequence[int]) -> list[Explained]:
        rows = super().explain_asked(query, chunks)
        if self.lending is None:
            return rows
        lent = dict(zip(*(own.tolist() for own in self._lent(self.lending, *self._scored(query))), strict=True))
        return [replace(row, lent=lent.get(chunk, 0.0)) for row, chunk in zip(rows, chunks, strict=True)]


class PictureWords:
    """See the module."""

    name, title, order = "picture-words", "terms read on pictures", 7
    family = SPARSE
    makers: Sequence[Maker] = (PICTURES_MAKER, POSTINGS)
    settings: tuple[Setting, ...] = (
        number("k1", "k1", 0, 10, 1.2, help="repeats of a term count for more as it rises"),
        number("b", "b", 0, 1, 0.4, help="holds pictures with many words back"),
        number("lent", "Lent by pictures that look like it", 0, 3, 0,
               help="of the score of what is said of those, where nothing is said of it; 0: nothing"),
        group("analysis", "Analysis", ANALYSIS, {}, built=True),
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        for field, wrong in analysis_problems(branch["analysis"]):
            yield f"analysis.{field}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        # Pictures are looked at first: that tells how far it is, and what is read stays at hand.
        return Needs({PICTURES: pictures_piece(), **pieces_of({PICTURE_WORDS: branch["analysis"]})})

    def open(self, branch: Settings, opening: Opening) -> Branch:
        lending = None
        if branch["lent"]:
            lending = fitted([(Pictures.opened(pictures), now) for pictures, now in opening.over(PICTURES)])
        index = open_sparse(opening, PICTURE_WORDS, spread=False)
        return PictureWordsBranch({**branch, **PLAIN}, opening.texts, index, lending=lending)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        terms = max((facts.get("terms", 0) for facts in built), default=0)
        return [f"{terms:,} terms on pictures"] if terms else ["terms on pictures"]


KIND = PictureWords()
