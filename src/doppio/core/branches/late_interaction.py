"""Late interaction: a chunk scores by how well the words of the question are met by its own, each by its vector.

References
----------
.. [1] O. Khattab, M. Zaharia, "Efficient and Effective Passage Search via Contextualized Late Interaction over BERT",
   SIGIR 2020.
.. [2] K. Santhanam, O. Khattab, C. Potts, M. Zaharia, "PLAID: An Efficient Engine for Late Interaction Retrieval",
   CIKM 2022: centroids first, then codes.
"""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from numpy.typing import NDArray

from doppio.core.branches.dense.survey import Point
from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import BYTES, DENSE, Branch, Figure
from doppio.core.branches.many.index import Asked, ManyIndex
from doppio.core.branches.many.making import MAKERS, NO_CODES, codes_needs, opened_index
from doppio.core.branches.many.survey import survey
from doppio.core.branches.query import Allowed, Query
from doppio.core.fusion.pouring import Ranking
from doppio.core.kernels.spans import THREADS
from doppio.core.kinds import Setting, Settings, choice, number, whole
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import Passage
from doppio.core.models.token_vectors import TokenMatch, TokenVectors
from doppio.core.progress import Progress
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

CODED = {"codes": ("8", "2", "1")}


@dataclass(frozen=True)
class LateBranch:
    """An opened branch of token vectors."""

    settings: Settings
    index: ManyIndex
    stored: TokenVectors
    words: Encoder

    measure = "weighted mean of best token cosines, -1 to 1"
    least = -1.0
    encoder = None

    def asked(self, text: str) -> Asked:
        """A question as vectors of its tokens."""
        vectors, weights, _ = self.stored.asked(self.words, text)
        return Asked(vectors, weights)

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks for each question among those that may be found."""
        settings = None if self.settings["codes"] == NO_CODES else self.settings

        def one(query: Query) -> Ranking:
            return self.index.search(self.asked(query.text), depth, settings, allowed)

        if len(queries) == 1:
            return [one(queries[0])]
        with ThreadPoolExecutor(THREADS) as pool:
            return list(pool.map(one, queries))

    def matches(self, question: str, passage: Passage) -> list[TokenMatch]:
        """Which token of a chunk, as it is indexed, each token of a question is matched with."""
        assert passage.chunk is not None
        return self.stored.matches(self.words, question, passage.text, self.stored.of(passage.chunk))

    @property
    def figures(self) -> list[Figure]:
        index = self.index
        each = index.vectors / max(index.count, 1)
        found = [
            Figure(index.vectors, f"vectors of tokens, {each:.0f} a chunk"),
            Figure(index.full_bytes, "of them, mapped from disk", BYTES),
        ]
        if self.settings["codes"] == NO_CODES:
            return found
        own = index.code_bytes / max(index.vectors, 1)
        return [*found, Figure(index.code_bytes, f"of codes, {own:.0f} bytes a token", BYTES)]

    @property
    def survey_of(self) -> str:
        return f"tokens {self.words.digest}"

    def survey(self, questions: Sequence[str], progress: Progress) -> Iterator[Point]:
        """Measure every number of bits on these very vectors."""
        return survey(self.stored.joined(), [self.asked(question) for question in questions], progress)

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return []


class Late:
    """See the module. The vectors are those of the encoder that counts tokens."""

    name, title, order = "late-interaction", "late interaction of token vectors", 6
    family = DENSE
    makers: Sequence[Maker] = MAKERS
    settings: tuple[Setting, ...] = (
        choice(
            "codes",
            "Codes",
            {
                NO_CODES: "none: every vector is compared",
                "8": "8 bits a number",
                "2": "2 bits a number",
                "1": "1 bit a number",
            },
            "2",
            built=True,
            help="More bits find more of what comparing every vector finds, and take more memory",
        ),
        whole("cells", "Cells, 0: by size", 0, 65_536, 0, built=True, when=CODED),
        whole("probes", "Cells looked into for each token", 1, 65_536, 16, when=CODED),
        number("over_fetch", "Over-fetch, times the depth", 1, 100, 4, when=CODED),
    )

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        return iter(())

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return codes_needs(branch, planning)

    def open(self, branch: Settings, opening: Opening) -> Branch:
        return LateBranch(branch, *opened_index(opening), opening.counter)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        bits = branch["codes"]
        return ["every token compared" if bits == NO_CODES else f"tokens in {bits} bit{'s' * (bits != '1')} a number"]


KIND = Late()
