"""Sparse retrieval over more terms than are said: chunks and questions gain words that mean much the same.

What is added are words of this corpus, found by the encoder's vectors: every one is readable, has its weight, and can
be left out. Where words and vectors agree less than they seem to, it adds noise: codes and names gain nothing.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.making import VECTORS_MAKER, vector_needs
from doppio.core.branches.dense.metric import COSINE
from doppio.core.branches.explained import AddedTerm
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.query import Query
from doppio.core.branches.sparse.adding_branch import ASKED_BY, AddingBranch
from doppio.core.branches.sparse.expanding import EXPANDING, WHOLE, sixteenths
from doppio.core.branches.sparse.expanding import KIND as EXPANDED
from doppio.core.branches.sparse.settings import analysis_problems
from doppio.core.branches.sparse.spread import open_sparse
from doppio.core.branches.sparse.terms import analysis_of, terms_of
from doppio.core.branches.sparse.vocabulary import EDITION, Vocabulary, gather
from doppio.core.branches.sparse.vocabulary import KIND as VOCABULARY
from doppio.core.fingerprint import fingerprint
from doppio.core.kinds import Setting, Settings, encoder, number, whole
from doppio.core.models.encoder import TextEncoder
from doppio.core.models.registry import DEFAULT_ENCODER, TRAINED
from doppio.core.store.crew import Hands
from doppio.core.store.pieces import Arrays, Facts, Maker, Needs, Opening, Piece, Planning, Whole
from doppio.core.text.analysis import VERSION, Analysis

VECTORS_OVER = {"metric": COSINE, "structure": {"kind": "exact"}}


@dataclass(frozen=True)
class ExpandedBranch(AddingBranch):
    """An opened branch of expanded terms."""

    vocabulary: Vocabulary
    encoder: TextEncoder

    def added_to_questions(
        self, queries: Sequence[Query], vectors: NDArray | None, own: Sequence[Mapping[str, float]]
    ) -> list[dict[str, float]]:
        assert vectors is not None
        most, weight = self.settings["question_terms"], self.settings["question_weight"]
        if not most or not weight:
            return [{} for _ in queries]
        held = [self.vocabulary.held(one) for one in own]
        found, _ = self.vocabulary.nearest(vectors, held, most)
        return [{self.vocabulary.terms[place]: weight for place in row[row >= 0].tolist()} for row in found]

    def encoded(self, question: str) -> NDArray[np.float32]:
        return self.encoder.questions([question])

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
        held = self.vocabulary.held(terms_of(self.settings, question))
        [found], _ = self.vocabulary.nearest(vector[None], [held], count)
        return [self.vocabulary.words[place] for place in found.tolist() if place >= 0]


class Expanded:
    """See the module. What chunks gain is built, what the question gains applies when it is asked."""

    name, title, order = "expanded", "terms, with words that mean much the same", 3
    family = SPARSE
    makers: Sequence[Maker] = (VECTORS_MAKER, EXPANDING)
    settings: tuple[Setting, ...] = (
        encoder("encoder", "Encoder", DEFAULT_ENCODER, built=True, help="says which words mean much the same"),
        whole("passage_terms", "Words added to a chunk", 0, 200, 40, built=True, help="at most"),
        number("passage_weight", "Weight of these", 0.05, 1, 0.6, built=True,
               help="of an occurrence, times the cosine between word and chunk"),
        whole("words", "Vocabulary, in words", 100, 200_000, 20_000, built=True,
              help="the words of the corpus that most chunks hold"),
        *ASKED_BY,
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
        vocabulary = Vocabulary.opened(opening.whole(VOCABULARY).arrays)
        own = opening.models.encoder(branch["encoder"])
        return ExpandedBranch(branch, opening.texts, open_sparse(opening, EXPANDED), vocabulary, own)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        return [f"{branch['passage_terms']} words added to a chunk"]


def _gathered(analysis: Settings, own: TextEncoder, most: int, texts: Iterator[str], hands: Hands) -> Arrays:
    return gather(texts, Analysis.of(analysis), own, most, hands.progress)


KIND = Expanded()
