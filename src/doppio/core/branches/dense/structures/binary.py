"""One bit a number; see `dense.bits`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.bits import BitCodes, bit_candidates, bit_codes
from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Tried, over_fetch
from doppio.core.kinds import Setting
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    """Codes of a segment."""

    codes: BitCodes

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        return bit_candidates(self.codes, question, count, dead)


class Binary(Anew):
    """See the module."""

    name, title, order, edition = "binary", "one bit a number (binary)", 3, 2
    summary = "{over_fetch} times fetched"
    settings: tuple[Setting, ...] = (over_fetch(10),)
    tried: Sequence[Tried] = (({}, ({"over_fetch": 4}, {"over_fetch": 10}, {"over_fetch": 30})),)

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        made = bit_codes(vectors.rows, vectors.squares)
        progress.advance(len(vectors))
        return {"words": made.words, "mean": made.mean, "lengths": made.lengths}

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return dimension / 8 + 4

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Opened:
        return Opened(BitCodes(arrays["words"], arrays["mean"], arrays["lengths"]))


KIND = Binary()
