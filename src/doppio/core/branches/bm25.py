"""Sparse retrieval: a chunk scores by the terms that it shares with the question."""

import threading
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.sparse.fields import FieldedIndex
from doppio.core.branches.sparse.index import SparseIndex, Terms
from doppio.core.branches.sparse.making import INDEXED, POSTINGS, pieces
from doppio.core.branches.sparse.nearness import LOOKED_AT, Placed, nearness
from doppio.core.branches.sparse.settings import ANALYSIS, FIELDS, FIELDS_SCHEMA, analysis_problems
from doppio.core.branches.sparse.spread import open_sparse
from doppio.core.branches.sparse.spread_fields import open_fields
from doppio.core.branches.sparse.term_branch import TermBranch
from doppio.core.branches.sparse.terms import (
    analysis_of,
    field_weights,
    weighed_fielded_terms,
    weighed_terms,
    weighting_of,
)
from doppio.core.branches.sparse.weighting import DIRICHLET, LONG, MEASURES, OKAPI, PLUS, TF_IDF, Weighting
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, choice, group, number, optional
from doppio.core.ranking import Ids, Scores, best_of
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

VARIANTS = {
    OKAPI: "BM25",
    PLUS: "BM25+, a floor for long chunks",
    LONG: "BM25L, kind to long chunks",
    DIRICHLET: "query likelihood, Dirichlet",
    TF_IDF: "TF-IDF cosine",
}
SHORT = {OKAPI: "BM25", PLUS: "BM25+", LONG: "BM25L", DIRICHLET: "query likelihood", TF_IDF: "TF-IDF"}
SATURATES = {"variant": (OKAPI, PLUS, LONG)}
FIELDED = "BM25F score, 0 upwards"


@dataclass(frozen=True)
class SparseBranch(TermBranch):
    """An opened sparse branch.

    index : over chunks as they are indexed, or over their fields
    own : what each thread knows of where terms stand in chunks
    """

    index: SparseIndex | FieldedIndex
    encoder: None = None
    own: threading.local = field(default_factory=threading.local, repr=False, compare=False)

    @property
    def least(self) -> float | None:
        """0, what a chunk without any of the terms has; a log likelihood can be below it, and has no end."""
        return None if self.settings["variant"] == DIRICHLET else 0.0

    @property
    def measure(self) -> str:
        return FIELDED if self.settings["fields"] else MEASURES[self.settings["variant"]]

    @property
    def fields(self) -> Mapping[str, SparseIndex]:
        return self.index.fields if isinstance(self.index, FieldedIndex) else {}

    @property
    def weighting(self) -> Weighting:
        return weighting_of(self.settings)

    @property
    def body(self) -> SparseIndex:
        """The index over the chunks' texts."""
        return self.index.fields["body"] if isinstance(self.index, FieldedIndex) else self.index

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks for each question among those that may be found, by its words where it has its own."""
        branch, index = self.settings, self.index
        if isinstance(index, FieldedIndex):
            weights = field_weights(branch)
            found = []
            for query in queries:
                terms, counted = weighed_fielded_terms(branch, query)
                found.append(index.search(terms, depth, weights, branch["k1"], counted=counted, allowed=allowed))
            return found
        terms_of_each = [weighed_terms(branch, query) for query in queries]
        if not branch["nearness"]:
            return list(index.search_many(terms_of_each, depth, self.weighting, allowed=allowed))
        looked_at = index.search_many(terms_of_each, max(depth, LOOKED_AT), self.weighting, allowed=allowed)
        rows = zip(terms_of_each, looked_at, strict=True)
        return [self._nearer(terms, *ranking, depth) for terms, ranking in rows]

    @property
    def _placed(self) -> Placed:
        if not hasattr(self.own, "placed"):
            self.own.placed = Placed(analysis_of(self.settings["analysis"]))
        found: Placed = self.own.placed
        return found

    def _nearer(self, terms: Terms, chunks: Ids, scores: Scores, depth: int) -> Ranking:
        """A ranking anew, with what nearness adds to each."""
        near = self._near(terms, chunks)
        return best_of([(chunks, scores.astype(np.float64) + near)], depth)

    def _near(self, terms: Terms, chunks: Ids) -> NDArray[np.float64]:
        """What nearness adds to the score of each chunk."""
        body, weighting, placed = self.body, self.weighting, self._placed
        counted = Counter(terms)
        weights = [times * weighting.idf(body.count, body.statistics(term)[0]) for term, times in counted.items()]
        found = placed.of(chunks.tolist(), self.texts.indexed)
        norms = body.norms_of(chunks, weighting)
        return float(self.settings["nearness"]) * nearness(
            found, placed.numbers(list(counted)), np.array(weights, np.float64), norms, weighting.k1
        )

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return self.explain_asked(Query(question), chunks)

    def explain_asked(self, query: Query, chunks: Sequence[int]) -> list[Explained]:
        """Why chunks are scored as they are, by the words of a question where it has its own."""
        branch, index = self.settings, self.index
        near: list[float] = []
        if isinstance(index, FieldedIndex):
            terms, counted = weighed_fielded_terms(branch, query)
            rows = index.explain(terms, chunks, field_weights(branch), branch["k1"], counted)
            lengths = [0.0] * len(rows)
        else:
            own = weighed_terms(branch, query)
            rows, lengths = index.explain(own, chunks, self.weighting)
            if branch["nearness"]:
                near = self._near(own, np.asarray(chunks, np.int64)).tolist()
        asked = [query.text] if query.words is None else list(query.words)
        found = self.found(asked, chunks)
        return [Explained(*row) for row in zip(rows, lengths, found, near or [0.0] * len(rows), strict=True)]


class Bm25:
    """See the module. Its analysis and its fields are built, the rest applies when a question is asked."""

    name, title, order = "bm25", "terms (BM25 and its kin)", 1
    family = SPARSE
    makers: Sequence[Maker] = (POSTINGS,)
    settings: tuple[Setting, ...] = (
        choice("variant", "Weighting", VARIANTS, OKAPI),
        number("k1", "k1", 0, 10, 1.2, help="repeats of a term count for more as it rises", when=SATURATES),
        number("b", "b", 0, 1, 0.75, help="holds long chunks back", when=SATURATES),
        optional(number("delta", "delta", 0, 10, help="empty: the paper's own", when={"variant": (PLUS, LONG)})),
        number("nearness", "Nearness of terms", 0, 10, 0, when=SATURATES,
               help="how much it adds that they stand within five words; 0: nothing, 1 as in the paper"),
        number("mu", "mu, in terms", 1, 100_000, 1000, help="terms of the corpus mixed into a chunk",
               when={"variant": (DIRICHLET,)}),
        Setting("fields", "title, headings and body as fields",
                {"anyOf": [FIELDS_SCHEMA, {"type": "null"}], "default": None}, built=True,
                when={"variant": (OKAPI,)}, inside=FIELDS),
        group("analysis", "Analysis", ANALYSIS, {}, built=True),
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        fields = branch["fields"] or {}
        if fields and branch["variant"] != OKAPI:
            yield "fields", f"go with the variant {OKAPI} only, not with {branch['variant']}"
        if fields and not any(given["weight"] for given in fields.values()):
            yield "fields", "all weights are 0; at least one must be positive"
        if fields and branch["nearness"]:
            yield "nearness", "goes with the text as one, not with fields; set it to 0 or leave the fields out"
        for analysis in [branch["analysis"], *(given["analysis"] for given in fields.values() if given["analysis"])]:
            for name, wrong in analysis_problems(analysis):
                yield f"analysis.{name}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return Needs(pieces(branch))

    def open(self, branch: Settings, opening: Opening) -> Branch:
        # Norms of TF-IDF hang on every term of all segments: it stays on one machine.
        fields: Mapping[str, SparseIndex] = {
            name: open_sparse(opening, name, spread=branch["variant"] != TF_IDF) for name in opening.needs.pieces
        }
        index = fields[INDEXED] if INDEXED in fields else open_fields(opening, fields)
        return SparseBranch(branch, opening.texts, index)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        terms = max((facts.get("terms", 0) for facts in built), default=0)
        return [f"{terms:,} terms"] if terms else [SHORT[branch["variant"]]]


KIND = Bm25()
