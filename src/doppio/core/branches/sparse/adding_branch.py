"""What branches have in common that add terms to chunks and questions: scores, shares, and what leaving a term out
does, whoever says which terms those are."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import AddedTerm, Explained, TermShare
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.sparse.expanding import WHOLE, is_added
from doppio.core.branches.sparse.index import SparseIndex
from doppio.core.branches.sparse.settings import ANALYSIS
from doppio.core.branches.sparse.term_branch import TermBranch
from doppio.core.branches.sparse.terms import weighed_terms
from doppio.core.branches.sparse.weighting import OKAPI, Weighting
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, group, number, whole
from doppio.core.ranking import best_of

# How such a branch is asked.
ASKED_BY: tuple[Setting, ...] = (
    whole("question_terms", "Words added to a question", 0, 200, 20, help="at most"),
    number("question_weight", "Weight of those", 0, 1, 0.2, help="beside 1 for a word of the question"),
    number("k1", "k1", 0.05, 10, 1.2, help="repeats of a term count for more as it rises"),
    number("b", "b", 0, 1, 0.75, help="holds long chunks back"),
    group("analysis", "Analysis", ANALYSIS, {}, built=True),
)


@dataclass(frozen=True)
class AddingBranch(TermBranch):
    """An opened branch whose index has terms that chunks do not hold; see `expanding`."""

    index: SparseIndex

    least = 0.0
    measure = "BM25 score with added terms, 0 upwards"

    @property
    def weighting(self) -> Weighting:
        """That of counts in sixteenths; `_scale` brings scores back to those of occurrences."""
        return Weighting(OKAPI, self.settings["k1"] * WHOLE, self.settings["b"])

    @property
    def body(self) -> SparseIndex:
        return self.index

    @property
    def _scale(self) -> float:
        return float((self.settings["k1"] + 1) / (self.settings["k1"] * WHOLE + 1))

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks by the terms of each question and those that are added to it."""
        asked = self._asked(queries, vectors)
        if not any(query.without for query in queries):
            terms = [{term: weight * self._scale for term, (weight, _) in one.items()} for one in asked]
            return list(self.body.search_many(terms, depth, self.weighting, allowed=allowed))
        rows = zip(queries, asked, strict=True)
        return [self._without(query, one, depth, allowed) for query, one in rows]

    def _asked(self, queries: Sequence[Query], vectors: NDArray | None) -> list[dict[str, tuple[float, bool]]]:
        """Terms to search by, each with its weight and whether it was added."""
        own = [_counted(weighed_terms(self.settings, query)) for query in queries]
        found: list[dict[str, tuple[float, bool]]] = [
            {term: (weight, False) for term, weight in one.items()} for one in own
        ]
        added = self.added_to_questions(queries, vectors, own)
        for terms, query, more in zip(found, queries, added, strict=True):
            terms.update((term, (weight, True)) for term, weight in more.items() if term not in query.without)
        return found

    def _without(
        self, query: Query, asked: Mapping[str, tuple[float, bool]], depth: int, allowed: Allowed
    ) -> Ranking:
        """The same where some of the question's own terms count only for chunks that hold them: every chunk that
        has a term is scored, and what was added to it is taken away."""
        terms = {term: weight * self._scale for term, (weight, _) in asked.items()}
        chunks, scores = self.body.search(terms, self.body.count, self.weighting, exhaustive=True, allowed=allowed)
        place = np.full(self.body.count, -1, np.int64)
        place[chunks] = np.arange(len(chunks))
        exact = scores.astype(np.float64)
        for term in query.without & asked.keys():
            holders, counts = self.body.holders(term)
            wrong = holders[is_added(counts) & (place[holders] >= 0)]
            rows, _ = self.body.explain({term: terms[term]}, wrong.tolist(), self.weighting)
            exact[place[wrong]] -= [row[0].share for row in rows]
        there = exact > 1e-6
        return best_of([(chunks[there], exact[there])], depth)

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return self.explain_asked(Query(question), chunks)

    def explain_asked(self, query: Query, chunks: Sequence[int]) -> list[Explained]:
        """Why chunks are scored as they are: what was asked and what was added, to the question and to the chunk."""
        [asked] = self._asked([query], self.encoded(query.text))
        terms = {term: weight * self._scale for term, (weight, _) in asked.items()}
        rows, lengths = self.body.explain(terms, chunks, self.weighting)
        told = [[self._told(share, asked, query) for share in row] for row in rows]
        held = self.found([query.text, *(query.words or ())], chunks)
        return [Explained(*row) for row in zip(told, lengths, held, strict=True)]

    def _told(self, share: TermShare, asked: Mapping[str, tuple[float, bool]], query: Query) -> TermShare:
        weight, added = asked[share.term]
        chunk_has_it_added = share.in_chunk % WHOLE != 0
        off = chunk_has_it_added and share.term in query.without
        return replace(
            share,
            in_question=weight,
            in_chunk=share.in_chunk / WHOLE,
            share=0.0 if off else share.share,
            added_to_question=added,
            added_to_chunk=chunk_has_it_added,
        )

    def added_to_questions(
        self, queries: Sequence[Query], vectors: NDArray | None, own: Sequence[Mapping[str, float]]
    ) -> list[dict[str, float]]:
        """Terms that each question gains, with their weights; `own` are those that it has."""
        raise NotImplementedError

    def encoded(self, question: str) -> NDArray[np.float32] | None:
        """The vectors that `added_to_questions` takes; None where it needs none."""
        return None

    def added_to(self, chunks: Sequence[int]) -> list[list[AddedTerm]]:
        """The terms that were added to chunks when they were indexed, the heaviest first."""
        raise NotImplementedError


def _counted(terms: Sequence[str] | Mapping[str, float]) -> dict[str, float]:
    if isinstance(terms, Mapping):
        return dict(terms)
    found: dict[str, float] = {}
    for term in terms:
        found[term] = found.get(term, 0.0) + 1.0
    return found
