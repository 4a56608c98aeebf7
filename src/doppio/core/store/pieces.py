"""What an index is made of: pieces, each an artifact a segment, and the makers that write and merge them."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTexts
from doppio.core.fingerprint import fingerprint
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.progress import Progress
from doppio.core.store.artifacts import Artifact, ArtifactStore
from doppio.core.store.artifacts import Facts as Facts
from doppio.core.store.crew import Hands
from doppio.core.store.segments import OpenedList

TEXTS_AT_ONCE = 4096
Arrays = Mapping[str, Any]


@dataclass(frozen=True)
class Piece:
    """One index of a recipe: for every segment there is an artifact of this kind, keyed by the segment and `of`.

    of : str, digest of all that the index depends on besides its chunks
    facts : what its artifacts say of themselves
    """

    kind: str
    of: str
    facts: Facts
    maker: "Maker"

    def key(self, segment: str) -> str:
        return fingerprint(segment, self.of)

    def meta(self, segment: str, chunks: int) -> Facts:
        """What its artifact over a segment of so many chunks says of itself."""
        return {**self.facts, "segment": segment, "of": self.of, "chunks": chunks}


@dataclass(frozen=True)
class Whole:
    """What is made once for all chunks of a list, before the pieces: such as an encoder that is trained on them.

    make : from the texts of all chunks; begins its own steps of the progress
    """

    kind: str
    key: str
    make: Callable[[Iterator[str], Hands], Arrays]


@dataclass(frozen=True)
class Needs:
    """What has to be built for a part of a recipe: pieces by names of its own."""

    pieces: Mapping[str, Piece] = field(default_factory=dict)
    wholes: tuple[Whole, ...] = ()


@dataclass(frozen=True)
class Planning:
    """What a part of a recipe may look at when it says what it needs.

    counter : counts tokens, and gives the vectors of all tokens where they are wanted
    chunks : key of the reading list
    """

    models: Models
    counter: Encoder
    chunks: str


@dataclass(frozen=True)
class Building(Planning):
    """What a maker works with."""

    store: ArtifactStore
    opened: OpenedList
    texts: ChunkTexts
    hands: Hands

    @property
    def progress(self) -> Progress:
        return self.hands.progress

    def segment(self, place: int) -> str:
        """The key of a segment."""
        return self.opened.reading.parts[place].key

    def count(self, place: int) -> int:
        """Chunks of a segment."""
        return len(self.opened.segments[place].table)

    def tokens(self, place: int) -> NDArray[np.int64]:
        """Encoder tokens of each chunk of a segment as it is indexed."""
        return self.opened.segments[place].table.indexed_tokens

    def numbers(self, place: int) -> NDArray[np.int64]:
        """The number of every chunk of a segment, by which its texts are had."""
        return self.opened.numbers(place)

    def write(self, piece: Piece, place: int, arrays: Arrays, **facts: Any) -> None:
        """Write the artifact of a piece over a segment."""
        segment = self.segment(place)
        self.store.write(piece.kind, piece.key(segment), arrays, piece.meta(segment, self.count(place)) | facts)


@dataclass(frozen=True)
class Opening(Planning):
    """What a part of a recipe works with when it is opened.

    spread : the machines on which segments stand, as `branches.spread` says; None where they are opened here
    """

    store: ArtifactStore
    opened: OpenedList
    needs: Needs
    texts: ChunkTexts
    spread: Any = None

    def over(self, name: str) -> Iterator[tuple[Artifact, NDArray[np.int64]]]:
        """The artifacts of a piece, and the numbers of their chunks; empty where each is its place."""
        piece = self.needs.pieces[name]
        for part, now in zip(self.opened.reading.parts, self.opened.numbering.now, strict=True):
            yield self.store.open(piece.kind, piece.key(part.key)), now

    def whole(self, kind: str) -> Artifact:
        """What was made once for the list."""
        found = next(whole for whole in self.needs.wholes if whole.kind == kind)
        return self.store.open(kind, found.key)


@dataclass(frozen=True)
class Source:
    """An artifact over one of the segments that are merged.

    now : (n,) int64, which row of the new segment each of its rows becomes; -1 where it is dropped
    """

    artifact: Artifact
    now: NDArray[np.int64]


@dataclass(frozen=True)
class Estimate:
    """What making a piece takes: seconds, bytes on disk, and bytes of memory meanwhile."""

    seconds: float
    disk: float
    memory: float


@dataclass(frozen=True)
class Costing(Planning):
    """What an estimate goes by.

    rate : units a second that a step went at last on this machine, or the default where it never ran here
    """

    rate: Callable[[str, float], float]


@dataclass(frozen=True)
class Merging:
    """What a maker merges with.

    scratch : a folder for arrays that are too large for memory; it goes once they are written
    """

    store: ArtifactStore
    scratch: Path
    progress: Progress


class Maker(Protocol):
    """Makes the artifacts of one kind, or of several that come out of one pass.

    kinds : of artifacts
    wholes : kinds of what is made once for a list
    order : makers work one after another, the lowest first; who reads what another wrote comes after it
    """

    @property
    def kinds(self) -> Mapping[str, str]:
        """Kinds of artifacts, each with what is said of making it."""

    @property
    def wholes(self) -> Sequence[str]: ...
    @property
    def order(self) -> int: ...

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        """Write the artifacts of pieces that segments lack, each given by the segment's place."""

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        """Arrays over a segment of `count` chunks, from those over the segments that it was made of, and facts that
        change with it; None where they are to be made anew."""

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        """What making a piece over so many chunks with so many tokens takes."""


def texts_in_parts(read: Callable[[Sequence[int]], list[str]], numbers: NDArray[np.int64]) -> Iterator[str]:
    """Texts of chunks, a few thousand read at a time."""
    for first in range(0, len(numbers), TEXTS_AT_ONCE):
        yield from read(numbers[first : first + TEXTS_AT_ONCE].tolist())
