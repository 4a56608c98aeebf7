"""Product quantisation; see `dense.products`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.products import ProductCodes, build_products, product_candidates
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Tried, over_fetch
from doppio.core.kinds import Setting, whole
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    """Codes of a segment."""

    codes: ProductCodes

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        return product_candidates(self.codes, vectors.halves, question, count, dead)


class Pq(Anew):
    """See the module. `parts` counts bytes a chunk: each holds two parts of half a byte."""

    name, title, order, edition = "pq", "product codes (PQ)", 6, 2
    summary = "{over_fetch} times fetched"
    settings: tuple[Setting, ...] = (whole("parts", "Bytes a chunk", 1, 1024, 48, built=True), over_fetch(10))
    tried: Sequence[Tried] = (({"parts": 48}, ({"over_fetch": 4}, {"over_fetch": 10})),)

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        made = build_products(vectors.rows, settings["parts"])
        progress.advance(len(vectors))
        return {"rotation": made.rotation, "centers": made.centers, "codes": made.codes,
                "count": np.array([made.count], np.int64)}  # fmt: skip

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return float(settings["parts"])

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Opened:
        count = int(arrays["count"][0])
        return Opened(ProductCodes(arrays["rotation"], arrays["centers"], arrays["codes"], count))


KIND = Pq()
