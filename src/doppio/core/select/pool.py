"""What steps between the last ranking and the context look at: passages, and what is known of them."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.ranking import Ids, Scores

VectorsOf = Callable[[Sequence[int]], NDArray[np.float32]]


@dataclass(frozen=True)
class Pool:
    """Passages, best first.

    chunks : (n,) int64
    scores : (n,) float32, larger is better
    vectors_of : gives the vectors of chunks, (m, d) float32; None where no branch has vectors
    """

    question: str
    chunks: Ids
    scores: Scores
    table: ChunkTable
    source: ChunkTexts
    vectors_of: VectorsOf | None = None

    def __len__(self) -> int:
        return len(self.chunks)

    def some(self, places: NDArray[np.int64]) -> "Pool":
        """The passages at these places, in that order; what has been read of them is not read again."""
        found = replace(self, chunks=self.chunks[places], scores=self.scores[places])
        if "texts" in self.__dict__:
            found.__dict__["texts"] = [self.texts[place] for place in places.tolist()]
        return found

    @cached_property
    def texts(self) -> list[str]:
        """What each hands on."""
        return self.source.hosts(self.chunks.tolist())

    @cached_property
    def vectors(self) -> NDArray[np.float32]:
        """(n, d) float32.

        Raises
        ------
        ValueError
            If no branch has vectors; a recipe that asks for them is refused before.
        """
        if self.vectors_of is None:
            raise ValueError("no branch has vectors")
        return self.vectors_of(self.chunks.tolist())

    @cached_property
    def metadata(self) -> list[Mapping[str, Any]]:
        """What the document of each says of itself."""
        return self.source.metadata(self.chunks.tolist())

    @property
    def documents(self) -> NDArray[np.int64]:
        """(n,) int64, the position of each passage's document."""
        return self.table.document[self.chunks]

    @property
    def ranges(self) -> NDArray[np.int64]:
        """(n, 3) int64, what each hands on: document, start and end."""
        chunks, table = self.chunks, self.table
        return np.stack([table.document[chunks], table.host_start[chunks], table.host_end[chunks]], axis=1)
