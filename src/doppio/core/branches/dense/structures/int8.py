"""One byte a number: a quarter of the memory; see `dense.codes`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import ByteCodes, byte_candidates, byte_codes
from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Tried, over_fetch
from doppio.core.kinds import Setting
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    """Codes of a segment."""

    codes: ByteCodes

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        return byte_candidates(self.codes, vectors.halves, question, count, dead)


class Int8(Anew):
    """See the module."""

    name, title, order, edition = "int8", "one byte a number (int8)", 2, 1
    summary = "{over_fetch} times fetched"
    settings: tuple[Setting, ...] = (over_fetch(2),)
    tried: Sequence[Tried] = (({}, ({"over_fetch": 1}, {"over_fetch": 2})),)

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        made = byte_codes(vectors.rows)
        progress.advance(len(vectors))
        return {"codes": made.codes, "scales": made.scales}

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return dimension + 4.0

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Opened:
        return Opened(ByteCodes(arrays["codes"], arrays["scales"]))


KIND = Int8()
