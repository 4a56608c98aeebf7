"""A dense structure: the same vectors in half as many bytes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Tried, over_fetch
from doppio.core.kinds import Setting, Settings
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    rows: NDArray

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Settings, dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        scores = self.rows.astype(np.float32) @ question - (vectors.halves if vectors.halves.size else 0)
        if dead.size:
            scores[dead] = -np.inf
        order = np.argsort(-scores, kind="stable")[:count]
        return order[np.isfinite(scores[order])]


class HalfPrecision(Anew):
    name, title, edition = "half-precision", "two bytes a number", 1
    summary = "{over_fetch} times fetched"
    settings: tuple[Setting, ...] = (over_fetch(2),)
    tried: Sequence[Tried] = (({}, ({"over_fetch": 2},)),)

    def build(self, vectors: Vectors, settings: Settings, progress: Progress) -> Arrays:
        progress.advance(len(vectors))
        return {"rows": np.asarray(vectors.rows, np.float16)}

    def bytes_each(self, settings: Settings, dimension: int) -> float:
        return 2.0 * dimension

    def open(self, arrays: Mapping[str, NDArray]) -> Opened:
        return Opened(arrays["rows"])


KIND = HalfPrecision()
