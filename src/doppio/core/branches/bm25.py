"""Sparse retrieval: a chunk scores by the terms that it shares with the question."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from numpy.typing import NDArray

from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.sparse.fields import FieldedIndex
from doppio.core.branches.sparse.index import Segment, SparseIndex, unfound_share
from doppio.core.branches.sparse.making import INDEXED, POSTINGS, pieces
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.settings import ANALYSIS, FIELDS, FIELDS_SCHEMA, analysis_problems
from doppio.core.branches.sparse.terms import (
    analysis_of,
    field_weights,
    terms_of,
    weighed_fielded_terms,
    weighed_terms,
    weighting_of,
)
from doppio.core.branches.sparse.weighting import DIRICHLET, LONG, MEASURES, OKAPI, PLUS, TF_IDF
from doppio.core.chunking.table import ChunkTexts
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, choice, group, number, optional
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning
from doppio.core.text.analysis import Analysis

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
class SparseBranch:
    """An opened sparse branch.

    index : over chunks as they are indexed, or over their fields
    """

    settings: Settings
    index: SparseIndex | FieldedIndex
    texts: ChunkTexts
    encoder: None = None

    @property
    def least(self) -> float | None:
        """0, what a chunk without any of the terms has; a log likelihood can be below it, and has no end."""
        return None if self.settings["variant"] == DIRICHLET else 0.0

    @property
    def measure(self) -> str:
        return FIELDED if self.settings["fields"] else MEASURES[self.settings["variant"]]

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
        return list(index.search_many(terms_of_each, depth, weighting_of(branch), allowed=allowed))

    def rarity(self, words: Sequence[str]) -> list[float]:
        """The inverse document frequency of the rarest term of each word; 0 for one that no chunk holds."""
        weighting, found = weighting_of(self.settings), []
        for word in words:
            held = [self.body.statistics(term)[0] for term in terms_of(self.settings, word)]
            found.append(max((weighting.idf(self.body.count, times) for times in held if times), default=0.0))
        return found

    def terms(self, text: str) -> list[str]:
        """The terms of a text as the index sees them."""
        return terms_of(self.settings, text)

    @property
    def language(self) -> str:
        return str(self.settings["analysis"]["language"])

    def unfound(self, question: str) -> float:
        """The share of the question's terms that no chunk holds, weighted by their rarity, 0 to 1."""
        return unfound_share(self.body, terms_of(self.settings, question))

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return self.explain_asked(Query(question), chunks)

    def explain_asked(self, query: Query, chunks: Sequence[int]) -> list[Explained]:
        """Why chunks are scored as they are, by the words of a question where it has its own."""
        branch, index = self.settings, self.index
        if isinstance(index, FieldedIndex):
            terms, counted = weighed_fielded_terms(branch, query)
            rows = index.explain(terms, chunks, field_weights(branch), branch["k1"], counted)
            lengths = [0.0] * len(rows)
        else:
            rows, lengths = index.explain(weighed_terms(branch, query), chunks, weighting_of(branch))
        analysis = analysis_of(branch["analysis"])
        asked = [query.text] if query.words is None else list(query.words)
        wanted = {term.text for text in asked for term in analysis.asked(text)}
        return [
            Explained(row, length, found_terms(analysis, wanted, text))
            for row, length, text in zip(rows, lengths, self.texts.texts(chunks), strict=True)
        ]


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
        for analysis in [branch["analysis"], *(given["analysis"] for given in fields.values() if given["analysis"])]:
            for field, wrong in analysis_problems(analysis):
                yield f"analysis.{field}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return Needs(pieces(branch))

    def open(self, branch: Settings, opening: Opening) -> Branch:
        fields: Mapping[str, SparseIndex] = {
            name: SparseIndex(
                [Segment(Postings.opened(artifact.arrays), now) for artifact, now in opening.over(name)]
            )
            for name in opening.needs.pieces
        }
        return SparseBranch(branch, fields[INDEXED] if INDEXED in fields else FieldedIndex(fields), opening.texts)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        terms = max((facts.get("terms", 0) for facts in built), default=0)
        return [f"{terms:,} terms"] if terms else [SHORT[branch["variant"]]]


def found_terms(analysis: Analysis, terms: set[str], text: str) -> list[tuple[int, int]]:
    """Ranges of a text that hold one of the terms, none inside of another."""
    ranges = {(term.start, term.end) for term in analysis.terms(text) if term.text in terms} if terms else set()
    kept: list[tuple[int, int]] = []
    for start, end in sorted(ranges, key=lambda span: (span[0], -span[1])):
        if not kept or start >= kept[-1][1]:
            kept.append((start, end))
    return kept


KIND = Bm25()
