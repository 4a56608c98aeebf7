"""Sparse retrieval over more terms than are said: chunks and questions gain words that mean much the same.

What is added are words of this corpus, found by the encoder's vectors: every one is readable, has its weight, and can
be left out. Where words and vectors agree less than they seem to, it adds noise: codes and names gain nothing.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.making import VECTORS_MAKER, vector_needs
from doppio.core.branches.dense.metric import COSINE
from doppio.core.branches.explained import AddedTerm, Explained, TermShare
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.sparse.expanding import EXPANDING, WHOLE, is_added, sixteenths
from doppio.core.branches.sparse.expanding import KIND as EXPANDED
from doppio.core.branches.sparse.index import Segment, SparseIndex
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.settings import ANALYSIS, analysis_problems
from doppio.core.branches.sparse.term_branch import TermBranch
from doppio.core.branches.sparse.terms import analysis_of, terms_of, weighed_terms
from doppio.core.branches.sparse.vocabulary import EDITION, Vocabulary, gather
from doppio.core.branches.sparse.vocabulary import KIND as VOCABULARY
from doppio.core.branches.sparse.weighting import OKAPI, Weighting
from doppio.core.fingerprint import fingerprint
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, encoder, group, number, whole
from doppio.core.models.encoder import TextEncoder
from doppio.core.models.registry import DEFAULT_ENCODER, TRAINED
from doppio.core.ranking import best_of
from doppio.core.store.pieces import Arrays, Facts, Maker, Needs, Opening, Piece, Planning, Whole
from doppio.core.text.analysis import VERSION, Analysis

VECTORS_OVER = {"metric": COSINE, "structure": {"kind": "exact"}}


@dataclass(frozen=True)
class ExpandedBranch(TermBranch):
    """An opened branch of expanded terms."""

    index: SparseIndex
    vocabulary: Vocabulary
    encoder: TextEncoder

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
        assert vectors is not None
        asked = self._asked(queries, vectors)
        if not any(query.without for query in queries):
            terms = [{term: weight * self._scale for term, (weight, _) in one.items()} for one in asked]
            return list(self.body.search_many(terms, depth, self.weighting, allowed=allowed))
        rows = zip(queries, asked, strict=True)
        return [self._without(query, one, depth, allowed) for query, one in rows]

    def _asked(self, queries: Sequence[Query], vectors: NDArray) -> list[dict[str, tuple[float, bool]]]:
        """Terms to search by, each with its weight and whether it was added."""
        own = [_counted(weighed_terms(self.settings, query)) for query in queries]
        held = [self.vocabulary.held(one) for one in own]
        found: list[dict[str, tuple[float, bool]]] = [
            {term: (weight, False) for term, weight in one.items()} for one in own
        ]
        most, weight = self.settings["question_terms"], self.settings["question_weight"]
        if not most or not weight:
            return found
        for terms, query, added in zip(found, queries, self.vocabulary.nearest(vectors, held, most)[0], strict=True):
            for place in added[added >= 0].tolist():
                term = self.vocabulary.terms[place]
                if term not in query.without:
                    terms[term] = weight, True
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
        [asked] = self._asked([query], self.encoder.questions([query.text]))
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

    def added_to(self, chunks: Sequence[int]) -> list[list[AddedTerm]]:
        """The terms that were added to chunks when they were indexed, the heaviest first."""
        analysis, settings = analysis_of(self.settings["analysis"]), self.settings
        texts = self.texts.indexed(chunks)
        held = [self.vocabulary.held(term.text for term in analysis.terms(text)) for text in texts]
        vectors = np.concatenate([self._vectors(text) for text in texts]) if texts else np.empty((0, 1), np.float32)
        found, cosines = self.vocabulary.nearest(vectors, held, settings["passage_terms"])
        weights = sixteenths(cosines, settings["passage_weight"]) / WHOLE
        return [
            [
                AddedTerm(self.vocabulary.terms[at], float(weight))
                for at, weight in zip(row, own, strict=True)
                if at >= 0
            ]
            for row, own in zip(found.tolist(), weights, strict=True)
        ]

    def _vectors(self, text: str) -> NDArray[np.float32]:
        return next(iter(self.encoder.encode([text]))).vectors

    def near_words(self, question: str, vector: NDArray[np.float32], count: int) -> list[str]:
        """The words of the corpus nearest to a question, without its own."""
        own = [
            place
            for term in terms_of(self.settings, question)
            if (place := self.vocabulary.places.get(term)) is not None
        ]
        [found], _ = self.vocabulary.nearest(vector[None], [np.array(own, np.int64)], count)
        return [self.vocabulary.words[place] for place in found.tolist() if place >= 0]


class Expanded:
    """See the module. What chunks gain is built, what the question gains applies when it is asked."""

    name, title, order = "expanded", "terms, with words that mean much the same", 3
    family = SPARSE
    makers: Sequence[Maker] = (VECTORS_MAKER, EXPANDING)
    settings: tuple[Setting, ...] = (
        encoder("encoder", "Encoder", DEFAULT_ENCODER, built=True, help="says which words mean much the same"),
        whole("passage_terms", "Words added to a chunk", 0, 200, 40, built=True, help="at most"),
        number("passage_weight", "Weight of these", 0, 1, 0.6, built=True,
               help="of an occurrence, times the cosine between word and chunk"),
        whole("question_terms", "Words added to a question", 0, 200, 20, help="at most"),
        number("question_weight", "Weight of those", 0, 1, 0.2, help="beside 1 for a word of the question"),
        whole("words", "Vocabulary, in words", 100, 200_000, 20_000, built=True,
              help="the words of the corpus that most chunks hold"),
        number("k1", "k1", 0.05, 10, 1.2, help="repeats of a term count for more as it rises"),
        number("b", "b", 0, 1, 0.75, help="holds long chunks back"),
        group("analysis", "Analysis", ANALYSIS, {}, built=True),
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        if branch["encoder"] == TRAINED:
            yield "encoder", "is trained on the corpus and has no vectors for single words; name another one"
        if branch["analysis"]["grams"]:
            yield "analysis.grams", "go with words alone: n-grams have no vectors"
        for field, wrong in analysis_problems(branch["analysis"]):
            yield f"analysis.{field}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        vectors = vector_needs({"encoder": branch["encoder"], **VECTORS_OVER}, planning)
        (over,) = vectors.pieces.values()
        own, analysis = planning.models.encoder(branch["encoder"]), branch["analysis"]
        # It hangs on every chunk: another corpus has other words.
        words = fingerprint(planning.chunks, VERSION, EDITION, analysis, own.digest, branch["words"])
        facts: Facts = {
            "vocabulary": words, "over": over.of, "analysis": analysis,
            "terms": branch["passage_terms"], "weight": branch["passage_weight"],
        }  # fmt: skip
        made = Piece(EXPANDED, fingerprint(*facts.values()), facts, EXPANDING)
        make = partial(_gathered, analysis, own, branch["words"])
        return Needs({**vectors.pieces, EXPANDED: made}, (Whole(VOCABULARY, words, make),))

    def open(self, branch: Settings, opening: Opening) -> Branch:
        segments = [Segment(Postings.opened(artifact.arrays), now) for artifact, now in opening.over(EXPANDED)]
        vocabulary = Vocabulary.opened(opening.whole(VOCABULARY).arrays)
        own = opening.models.encoder(branch["encoder"])
        return ExpandedBranch(branch, opening.texts, SparseIndex(segments), vocabulary, own)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        return [f"{branch['passage_terms']} words added to a chunk"]


def _gathered(analysis: Settings, own: TextEncoder, most: int, texts: Iterator[str], progress: Any) -> Arrays:
    return gather(texts, Analysis.of(analysis), own, most, progress)


def _counted(terms: Sequence[str] | Mapping[str, float]) -> dict[str, float]:
    if isinstance(terms, Mapping):
        return dict(terms)
    found: dict[str, float] = {}
    for term in terms:
        found[term] = found.get(term, 0.0) + 1.0
    return found


KIND = Expanded()
