"""Dense retrieval: a chunk scores by how near its vector is to the question's."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from numpy.typing import NDArray

from doppio.core.branches.dense.index import VECTORS, DenseIndex
from doppio.core.branches.dense.making import STRUCTURE_MAKER, VECTORS_MAKER, encoder_over, vector_needs
from doppio.core.branches.dense.metric import COSINE, MEASURES, METRICS
from doppio.core.branches.dense.spread import SpreadDense, open_part, opened_segments
from doppio.core.branches.dense.structure import KIND as STRUCTURE
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.branches.dense.survey import Point, joined, survey
from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import DENSE, Branch
from doppio.core.branches.query import Allowed, Query
from doppio.core.branches.spread import Index
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, choice, encoder, one_of_kinds
from doppio.core.models.encoder import TextEncoder
from doppio.core.models.registry import DEFAULT_ENCODER
from doppio.core.progress import Progress
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

METRIC_TITLES = dict(zip(METRICS, ("cosine", "inner product", "Euclidean distance"), strict=True))


@dataclass(frozen=True)
class DenseBranch:
    """An opened dense branch."""

    settings: Settings
    index: DenseIndex
    encoder: TextEncoder

    @property
    def least(self) -> float | None:
        """-1 for cosines; products and distances have no end."""
        return -1.0 if self.settings["metric"] == COSINE else None

    @property
    def measure(self) -> str:
        return MEASURES[self.settings["metric"]]

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks for each question among those that may be found; `vectors` say what is asked."""
        assert vectors is not None
        return self.index.search_many(vectors, depth, self.settings["structure"], allowed)

    def vectors_of(self, chunks: Sequence[int]) -> NDArray:
        """Full vectors of chunks: (m, d) float32."""
        return self.index.vectors(chunks)

    @property
    def survey_of(self) -> str:
        return f"{self.encoder.digest} {self.settings['metric']}"

    def survey(self, questions: Sequence[str], progress: Progress) -> Iterator[Point]:
        """Measure every structure on these very vectors."""
        return survey(joined(self.index), self.encoder.questions(questions), self.settings["metric"], progress)

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return []


class Vector:
    """See the module. The metric applies when a question is asked, but a distance has structures of its own."""

    name, title, order = "vector", "vectors of an encoder", 2
    family, gives_vectors = DENSE, True
    makers: Sequence[Maker] = (VECTORS_MAKER, STRUCTURE_MAKER)
    settings: tuple[Setting, ...] = (
        encoder("encoder", "Encoder", DEFAULT_ENCODER, built=True),
        choice("metric", "Compared by", METRIC_TITLES, COSINE),
        one_of_kinds("structure", "Search", STRUCTURES.name, "exact"),
    )

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        return iter(())

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return vector_needs(branch, planning)

    def open(self, branch: Settings, opening: Opening) -> Branch:
        over = opening.needs.pieces.get(STRUCTURE)
        vectors, metric = opening.needs.pieces[VECTORS], branch["metric"]
        own = encoder_over(branch["encoder"], opening.models, opening.store, opening.chunks)
        told = (over.kind, over.of, over.facts["settings"]["kind"]) if over else None
        given = metric, (vectors.kind, vectors.of), told
        if opening.spread is not None:
            return DenseBranch(branch, SpreadDense(opening.spread, Index(open_part, given), metric), own)
        segments = opened_segments(opening.store, opening.opened.stands, *given)
        return DenseBranch(branch, DenseIndex(segments, metric), own)

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        return [f"{branch['metric']}, {branch['structure']['kind']}".replace("-", " ")]


KIND = Vector()
