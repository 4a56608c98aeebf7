"""What a dense structure is: built over the vectors of a segment, it proposes rows that are worth a look."""

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.kinds import Family, Kind, Setting, number
from doppio.core.progress import Progress

Arrays = dict[str, NDArray[Any]]
# Settings when it is built, and those of the questions that trade speed for exactness.
Tried = tuple[Mapping[str, Any], Sequence[Mapping[str, Any]]]


class Held(Protocol):
    """A structure that is opened."""

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        """Rows worth scoring with their full vectors, at most `count`, in any order."""


class DenseStructure(Kind, Protocol):
    """A kind of structure; its module holds one as `KIND`.

    built : whether it is built at all; otherwise every vector is compared
    edition : goes up whenever the same vectors make another structure, so that what was built before is built anew
    tried : what a survey measures of it
    """

    @property
    def built(self) -> bool: ...
    @property
    def edition(self) -> int: ...
    @property
    def tried(self) -> Sequence[Tried]: ...

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        """The arrays of its artifact, over all vectors of a segment; tells `progress` of every one of them."""

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Held:
        """A structure from the arrays of its artifact, which are mapped from disk."""

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        """Bytes that it takes a chunk, about."""

    def grown(self, held: Any, now: NDArray[np.int64], vectors: Vectors, progress: Progress) -> Arrays | None:
        """One over more vectors, from one over some of them; None where it has to be built anew.

        `now` says which row of `vectors` each row of the old one becomes; -1 where it is gone.
        """


class Anew:
    """For structures that are built in no time: they do not grow."""

    built = True

    def grown(self, held: Any, now: NDArray[np.int64], vectors: Vectors, progress: Progress) -> Arrays | None:
        return None


def over_fetch(times: float) -> Setting:
    """How many times as many candidates as hits are asked for are scored with their full vectors."""
    return number("over_fetch", "Over-fetch, times the depth", 1, 100, times)


STRUCTURES: Family[DenseStructure] = Family(
    "structures", "doppio.core.branches.dense.structures", DenseStructure, key="kind"
)
