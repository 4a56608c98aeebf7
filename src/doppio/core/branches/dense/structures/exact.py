"""Exact: every vector is compared; there is nothing to build."""

from collections.abc import Mapping, Sequence
from typing import Any

from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Vectors
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Held, Tried
from doppio.core.kinds import Setting
from doppio.core.progress import Progress

EXACT = "exact"


class Exact(Anew):
    """The search that all others are measured against; see `dense.exact`."""

    name, title, order, edition = EXACT, "exact, float32", 1, 1
    summary = "every vector"
    built = False
    settings: tuple[Setting, ...] = ()
    tried: Sequence[Tried] = ()

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        raise ValueError("an exact search has no structure")

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return 0.0

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Held:
        raise ValueError("an exact search has no structure")


KIND = Exact()
