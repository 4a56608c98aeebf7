"""Inverted lists over cells; see `dense.cells`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.cells import Cells, build_cells, cell_candidates
from doppio.core.branches.dense.codes import ByteCodes
from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import Anew, Arrays, Tried, over_fetch
from doppio.core.kinds import Setting, whole
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    """Cells of a segment."""

    cells: Cells

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        return cell_candidates(self.cells, vectors.halves, question, count, settings["probes"], dead)


class Ivf(Anew):
    """See the module. 0 cells stands for four times the square root of the chunks."""

    name, title, order, edition = "ivf", "inverted lists (IVF)", 5, 2
    summary = "{probes} cells"
    settings: tuple[Setting, ...] = (
        whole("cells", "Cells, 0: by size", 0, 100_000, 0, built=True),
        whole("probes", "Cells looked into", 1, 100_000, 16),
        over_fetch(2),
    )
    tried: Sequence[Tried] = (({"cells": 0}, tuple({"probes": probes, "over_fetch": 2} for probes in (4, 16, 64))),)

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        wanted = settings["cells"] or max(1, int(4 * np.sqrt(len(vectors))))
        made = build_cells(vectors.rows, vectors.squares, wanted)
        progress.advance(len(vectors))
        return {"centers": made.centers, "center_halves": made.center_halves, "begins": made.begins,
                "members": made.members, "codes": made.codes.codes, "scales": made.codes.scales}  # fmt: skip

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return dimension + 8.0

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Opened:
        codes = ByteCodes(arrays["codes"], arrays["scales"])
        return Opened(Cells(arrays["centers"], arrays["center_halves"], arrays["begins"], arrays["members"], codes))


KIND = Ivf()
