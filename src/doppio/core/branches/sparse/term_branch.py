"""What branches that count terms have in common: their terms, how rare these are, where texts hold them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from doppio.core.branches.sparse.index import SparseIndex, unfound_share
from doppio.core.branches.sparse.terms import analysis_of, terms_of
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.chunking.table import ChunkTexts
from doppio.core.kinds import Settings
from doppio.core.text.analysis import Analysis


@dataclass(frozen=True)
class TermBranch:
    """An opened branch over terms; its settings have an `analysis`."""

    settings: Settings
    texts: ChunkTexts

    @property
    def body(self) -> SparseIndex:
        """The index over the chunks' texts."""
        raise NotImplementedError

    @property
    def fields(self) -> Mapping[str, SparseIndex]:
        """The index of each field, where there are any."""
        return {}

    @property
    def weighting(self) -> Weighting:
        """How the terms of the body are weighted."""
        raise NotImplementedError

    @property
    def measure(self) -> str:
        raise NotImplementedError

    def rarity(self, words: Sequence[str]) -> list[float]:
        """The inverse document frequency of the rarest term of each word; 0 for one that no chunk holds."""
        weighting, found = self.weighting, []
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

    def found(self, asked: Sequence[str], chunks: Sequence[int]) -> list[list[tuple[int, int]]]:
        """Ranges of the chunks' texts that hold a term of what is asked."""
        analysis = analysis_of(self.settings["analysis"])
        wanted = {term.text for text in asked for term in analysis.asked(text)}
        return [found_terms(analysis, wanted, text) for text in self.texts.texts(chunks)]


def found_terms(analysis: Analysis, terms: set[str], text: str) -> list[tuple[int, int]]:
    """Ranges of a text that hold one of the terms, none inside of another."""
    ranges = {(term.start, term.end) for term in analysis.terms(text) if term.text in terms} if terms else set()
    kept: list[tuple[int, int]] = []
    for start, end in sorted(ranges, key=lambda span: (span[0], -span[1])):
        if not kept or start >= kept[-1][1]:
            kept.append((start, end))
    return kept
