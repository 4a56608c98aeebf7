"""Sparse retrieval over more terms than are said, which a registered expander names for chunks and for questions.

What it names is analysed as the texts are; every term is readable, has its weight, and can be left out. Chunks are
expanded segment by segment, so a changed document sends its own chunks alone.
"""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import AddedTerm
from doppio.core.branches.kind import SPARSE, Branch
from doppio.core.branches.query import Query
from doppio.core.branches.sparse.adding_branch import ASKED_BY, AddingBranch
from doppio.core.branches.sparse.expanding import WHOLE, AddingMaker, Gathered, sixteenths, texts_at_once
from doppio.core.branches.sparse.settings import analysis_problems
from doppio.core.branches.sparse.spread import open_sparse
from doppio.core.branches.sparse.terms import analysis_of
from doppio.core.fingerprint import fingerprint
from doppio.core.kinds import EXPANDER, Setting, Settings, number, registered, whole
from doppio.core.models.remote_text import RemoteExpander, Weighed
from doppio.core.store.pieces import Building, Facts, Maker, Needs, Opening, Piece, Planning
from doppio.core.text.analysis import VERSION, Analysis

KIND_OF_ARTIFACT = "remotely-expanded-postings"
STEP = "expand chunks elsewhere"


class RemoteExpandingMaker(AddingMaker):
    """Sends the chunks of a segment and packs what comes back."""

    kinds: Mapping[str, str] = {KIND_OF_ARTIFACT: STEP}
    wholes: Sequence[str] = ()
    step, rate = STEP, 50.0

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            facts, numbers = piece.facts, building.numbers(place)
            expander, analysis = building.models.expander(facts["expander"]), Analysis.of(facts["analysis"])
            numbering = analysis.numbering()
            gathered = Gathered(numbering.vocabulary)
            building.progress.start(STEP, len(numbers), "chunks")
            for part in texts_at_once(building, numbers):
                for text, words in zip(part, expander.passages(part, facts["terms"]), strict=True):
                    own, times = np.unique(np.asarray(numbering(text), np.int64), return_counts=True)
                    more = terms_with_weights(analysis, words)
                    placed = {numbering.number(term): weight for term, weight in more.items()}
                    for number_of_own in own.tolist():
                        placed.pop(number_of_own, None)
                    weights = np.array(list(placed.values()), np.float32)
                    added = np.array(list(placed), np.int64)
                    gathered.take(own, times, added, sixteenths(weights, facts["weight"]))
                building.progress.advance(len(part))
            made = gathered.packed()
            building.write(piece, place, made.arrays(), **self.written(made))


REMOTE_EXPANDING = RemoteExpandingMaker()


def terms_with_weights(analysis: Analysis, words: Weighed) -> dict[str, float]:
    """The terms of words, each with the largest weight that a word of it has."""
    found: dict[str, float] = {}
    for word, weight in words:
        for term in analysis.asked(word):
            found[term.text] = max(weight, found.get(term.text, 0.0))
    return found


@dataclass(frozen=True)
class RemotelyExpandedBranch(AddingBranch):
    """An opened branch; questions are sent as they are asked, the last ones kept."""

    expander: RemoteExpander
    encoder: None = None

    def added_to_questions(
        self, queries: Sequence[Query], vectors: NDArray | None, own: Sequence[Mapping[str, float]]
    ) -> list[dict[str, float]]:
        most, weight = self.settings["question_terms"], self.settings["question_weight"]
        if not most or not weight:
            return [{} for _ in queries]
        analysis = analysis_of(self.settings["analysis"])
        found = []
        for query, terms in zip(queries, own, strict=True):
            more = terms_with_weights(analysis, self.expander.question(query.text, most))
            found.append({term: weight * share for term, share in more.items() if term not in terms})
        return found

    def added_to(self, chunks: Sequence[int]) -> list[list[AddedTerm]]:
        analysis, settings = analysis_of(self.settings["analysis"]), self.settings
        texts = self.texts.indexed(chunks)
        found = []
        for text, words in zip(texts, self.expander.passages(texts, settings["passage_terms"]), strict=True):
            own = {term.text for term in analysis.terms(text)}
            more = {term: one for term, one in terms_with_weights(analysis, words).items() if term not in own}
            weights = sixteenths(np.array(list(more.values()), np.float32), settings["passage_weight"]) / WHOLE
            told = [AddedTerm(term, float(weight)) for term, weight in zip(more, weights, strict=True)]
            found.append(sorted(told, key=lambda one: -one.weight))
        return found


class RemotelyExpanded:
    """See the module."""

    name, title, order = "expanded-remote", "terms, with words of a registered expander", 4
    family = SPARSE
    makers: Sequence[Maker] = (REMOTE_EXPANDING,)
    settings: tuple[Setting, ...] = (
        registered("expander", "Expander", EXPANDER, built=True,
                   help="as `./doppio model add-remote` registered it"),
        whole("passage_terms", "Words added to a chunk", 0, 200, 40, built=True, help="at most"),
        number("passage_weight", "Weight of these", 0.05, 1, 0.6, built=True,
               help="of an occurrence, times the expander's own"),
        *ASKED_BY,
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        for field, wrong in analysis_problems(branch["analysis"]):
            yield f"analysis.{field}", wrong

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        facts: Facts = {
            "expander": branch["expander"], "analysis": branch["analysis"],
            "terms": branch["passage_terms"], "weight": branch["passage_weight"],
        }  # fmt: skip
        digest = planning.models.expander(branch["expander"]).digest
        of = fingerprint(VERSION, digest, branch["analysis"], branch["passage_terms"], branch["passage_weight"])
        return Needs({KIND_OF_ARTIFACT: Piece(KIND_OF_ARTIFACT, of, facts, REMOTE_EXPANDING)})

    def open(self, branch: Settings, opening: Opening) -> Branch:
        expander = opening.models.expander(branch["expander"])
        return RemotelyExpandedBranch(branch, opening.texts, open_sparse(opening, KIND_OF_ARTIFACT), expander)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        return [f"{branch['passage_terms']} words added to a chunk"]


KIND = RemotelyExpanded()
