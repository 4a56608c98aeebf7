"""Pictures that chunks carry, found by words or by another picture.

By words: by the best of what the document says of a picture, what is read on it, where it stands, what pictures that
look like it are about, and, where the encoder reads pictures, what it sees. By a picture: by how many of its points
are met, or by what the encoder sees. A chunk scores as its best picture does.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.explained import Explained
from doppio.core.branches.kind import DENSE, Branch, Figure
from doppio.core.branches.picture.index import Part, PictureIndex
from doppio.core.branches.picture.making import (
    AROUND,
    GUESSED,
    MAKERS,
    PICTURES,
    READ,
    SAID,
    SEEN,
    VECTORS,
    Pictures,
    picture_needs,
)
from doppio.core.branches.query import Allowed, Query
from doppio.core.fusion.pouring import Ranking
from doppio.core.kinds import Setting, Settings, encoder, number
from doppio.core.models.encoder import TextEncoder
from doppio.core.models.looks import Look, look
from doppio.core.models.registry import DEFAULT_ENCODER, TRAINED
from doppio.core.store.pieces import Facts, Maker, Needs, Opening, Planning

WEIGHTS = {SAID: "said", READ: "read", AROUND: "around", GUESSED: "guessed", SEEN: "seen"}
LOOKS_KEPT = 16


@lru_cache(maxsize=LOOKS_KEPT)
def _look(drawn: bytes) -> Look:
    return look(drawn)


@dataclass(frozen=True)
class PictureBranch:
    """An opened branch of pictures."""

    settings: Settings
    index: PictureIndex
    encoder: TextEncoder

    measure = "likeness of its best picture, -1 to 1"
    least = -1.0
    sees = True

    def search_many(self, questions: Sequence[str], vectors: NDArray | None, depth: int) -> list[Ranking]:
        return self.search_asked([Query(text) for text in questions], vectors, depth, None)

    def search_asked(
        self, queries: Sequence[Query], vectors: NDArray | None, depth: int, allowed: Allowed
    ) -> list[Ranking]:
        """Rank chunks that carry pictures for each question, by its words, its picture or both."""
        assert vectors is not None
        weights = {sort: self.settings[name] for sort, name in WEIGHTS.items()}
        found = []
        for query, vector in zip(queries, vectors, strict=True):
            seen = None if query.picture is None else _look(query.picture)
            words = None if query.wordless else vector
            sight = self._seen(query.picture) if weights[SEEN] else None
            found.append(self.index.search(words, seen, query.share, weights, depth, allowed, sight))
        return found

    def _seen(self, drawn: bytes | None) -> NDArray[np.float32] | None:
        """The vector of a picture, where the encoder sees."""
        if drawn is None or self.encoder.sight is None:
            return None
        (seen,) = self.encoder.sight.see([drawn])
        found: NDArray[np.float32] = seen.vectors[0]
        return found

    @property
    def figures(self) -> list[Figure]:
        index = self.index
        said, read = index.counts
        return [
            Figure(index.count, "pictures"),
            Figure(said, "with words of their document"),
            Figure(read, "with words on them"),
            Figure(index.points, "points to compare"),
            Figure(index.guesses, "the guess is learned from"),
        ]

    def explain(self, question: str, chunks: Sequence[int]) -> list[Explained]:
        return []


class PicturesKind:
    """See the module. What a picture counts beside the words of a question is said with the question."""

    name, title, order = "pictures", "pictures, by words or by a picture", 8
    family = DENSE
    makers: Sequence[Maker] = MAKERS
    settings: tuple[Setting, ...] = (
        encoder("encoder", "Encoder of the words", DEFAULT_ENCODER, built=True),
        number("said", "Weight of what is said of it", 0, 1, 1, help="its alternative text and its caption"),
        number("read", "Weight of what is read on it", 0, 1, 1, help="by the optical reader"),
        number("around", "Weight of where it stands", 0, 1, 0.6, help="the title and the headings over it"),
        number("guessed", "Weight of what it looks like", 0, 1, 0.4,
               help="what pictures that look like it are about, learned on this corpus; 0: nothing"),
        number("seen", "Weight of what the encoder sees", 0, 10, 1,
               help="where it reads pictures too, into the space of its words"),
    )  # fmt: skip

    def problems(self, branch: Settings) -> Iterator[tuple[str, str]]:
        if branch["encoder"] == TRAINED:
            yield "encoder", f"{TRAINED} knows no words of pictures; choose another encoder"
        if not any(branch[name] for name in WEIGHTS.values()):
            yield "said", "all weights are 0; at least one must be positive"

    def needs(self, branch: Settings, planning: Planning) -> Needs:
        return picture_needs(branch, planning)

    def open(self, branch: Settings, opening: Opening) -> Branch:
        both = zip(opening.over(PICTURES), opening.over(VECTORS), strict=True)
        parts = [
            Part(Pictures.opened(pictures), vectors.arrays["vectors"], vectors.arrays["told"], now)
            for (pictures, now), (vectors, _) in both
        ]
        return PictureBranch(branch, PictureIndex(parts), opening.models.encoder(branch["encoder"]))

    def facts(self, branch: Settings, built: Sequence[Facts]) -> list[str]:
        counted = [facts["pictures"] for facts in built if "pictures" in facts]
        return [f"{max(counted):,} pictures"] if counted else ["pictures"]


KIND = PicturesKind()
