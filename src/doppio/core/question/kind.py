"""What steps before the search are: rules for search terms, and ways to say a question otherwise."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Family, Kind, Settings
from doppio.core.ranking import Ids, Scores

EVERY_WORD = "all-words"


class Corpus(Protocol):
    """What a step may ask of the corpus."""

    def rarity(self, words: Sequence[str]) -> list[float]:
        """How rare each word is here, by its inverse document frequency; 1 where no branch counts terms."""

    def first_hits(self) -> tuple[Ids, Scores]:
        """What the question finds as it was asked, fused, best first."""

    def texts(self, chunks: Sequence[int]) -> list[str]:
        """Texts of chunks as they are indexed."""

    def near_words(self, question: str, count: int) -> list[str]:
        """Words of the corpus that mean much the same as a question, the nearest first; none where no branch has
        their vectors."""

    def write(self, writer: str, question: str, count: int) -> list[str]:
        """Other wordings by a registered writer."""

    @property
    def language(self) -> str:
        """The language that terms are analysed in, as ISO 639-1 has it; `any` where that is open."""

    @property
    def hint(self) -> str:
        """What the workspace is about, in words of its people; may be empty."""


@dataclass(frozen=True)
class Wording:
    """A question said otherwise.

    source : where it comes from, for people
    words : what branches of terms search by; None where it is the words of the text
    near : chunks that the question's vector is moved towards; without any its vector is that of the text
    pull : how far: the mean vector of those chunks is added so many times
    """

    text: str
    source: str
    words: Mapping[str, float] | None = None
    near: tuple[int, ...] = ()
    pull: float = 0.0

    def moved(self, own: NDArray[np.float32], others: NDArray[np.float32]) -> NDArray[np.float32]:
        """Its vector from that of the question and those of the chunks: (d,) float32, as long as the question's."""
        moved = own + self.pull * others.mean(axis=0)
        length = float(np.linalg.norm(moved))
        return np.asarray(moved * (float(np.linalg.norm(own)) / length) if length else own, np.float32)


class WordingKind(Kind, Protocol):
    """A way; its module holds one as `KIND`."""

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        """Other wordings of a question, the likeliest first; the question itself is not among them."""


class TermsKind(Kind, Protocol):
    """A rule for search terms; its module holds one as `KIND`."""

    def words(self, question: str, corpus: Corpus, settings: Settings) -> Mapping[str, float] | None:
        """Words to search by with their weights; None where it is all words of the question."""


WORDINGS: Family[WordingKind] = Family("wordings", "doppio.core.question.wordings", WordingKind, key="kind")
SEARCH_TERMS: Family[TermsKind] = Family("terms", "doppio.core.question.terms", TermsKind, key="kind")
