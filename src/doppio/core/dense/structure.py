"""Ways to find near vectors: exact, compressed, by cells, by a graph; built over one segment and kept as arrays."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.dense.bits import BitCodes, bit_candidates, bit_codes
from doppio.core.dense.cells import Cells, build_cells, cell_candidates
from doppio.core.dense.codes import ByteCodes, byte_candidates, byte_codes
from doppio.core.dense.graph import Graph, build_graph, extended, graph_candidates, reordered, without
from doppio.core.dense.metric import Floats, Vectors
from doppio.core.dense.products import ProductCodes, build_products, parts_of, product_candidates
from doppio.core.progress import Progress, Silent

KIND = "structure"
EXACT, INT8, BINARY, HNSW, IVF, PQ = "exact", "int8", "binary", "hnsw", "ivf", "pq"
KINDS = (EXACT, INT8, BINARY, HNSW, IVF, PQ)
# What is settled when the structure is built; all other settings apply when a question is asked.
BUILT = {EXACT: (), INT8: (), BINARY: (), HNSW: ("links", "breadth"), IVF: ("cells",), PQ: ("parts",)}
Arrays = dict[str, NDArray[Any]]
Opened = ByteCodes | BitCodes | Graph | Cells | ProductCodes


@dataclass(frozen=True)
class Structure:
    """A structure over the vectors of a segment, opened."""

    kind: str
    held: Opened
    bytes: int

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        """Rows worth scoring with their full vectors, at most `count`."""
        held = self.held
        if isinstance(held, ByteCodes):
            return byte_candidates(held, vectors.halves, question, count, dead)
        if isinstance(held, BitCodes):
            return bit_candidates(held, question, count, dead)
        if isinstance(held, Graph):
            return graph_candidates(held, question, count, settings["search"], dead)
        if isinstance(held, Cells):
            return cell_candidates(held, vectors.halves, question, count, settings["probes"], dead)
        return product_candidates(held, vectors.halves, question, count, dead)


def built_settings(settings: Mapping[str, Any]) -> dict[str, Any]:
    """The part of a recipe's `structure` that its artifact depends on."""
    return {"kind": settings["kind"], **{name: settings[name] for name in BUILT[settings["kind"]]}}


def build_structure(vectors: Vectors, settings: Mapping[str, Any], progress: Progress | None = None) -> Arrays:
    """Build a structure over the vectors of a segment.

    Parameters
    ----------
    settings : mapping
        The recipe's `structure`; its kind is not "exact".

    Returns
    -------
    dict of arrays, as `open_structure` takes them
    """
    progress = progress or Silent()
    kind = settings["kind"]
    progress.start(f"build {kind}", len(vectors), "chunks")
    if kind == HNSW:
        graph = build_graph(
            vectors.rows, vectors.halves, links=settings["links"], breadth=settings["breadth"], said=progress.advance
        )
        return _graph_arrays(graph)
    arrays: Arrays
    if kind == INT8:
        codes = byte_codes(vectors.rows)
        arrays = {"codes": codes.codes, "scales": codes.scales}
    elif kind == BINARY:
        bits = bit_codes(vectors.rows)
        arrays = {"words": bits.words, "mean": bits.mean}
    elif kind == IVF:
        wanted = settings["cells"] or max(1, int(4 * np.sqrt(len(vectors))))
        cells = build_cells(vectors.rows, wanted)
        arrays = {"centers": cells.centers, "begins": cells.begins, "members": cells.members,
                  "codes": cells.codes.codes, "scales": cells.codes.scales}  # fmt: skip
    elif kind == PQ:
        products = build_products(vectors.rows, parts_of(vectors.rows.shape[1], settings["parts"]))
        arrays = {"centers": products.centers, "codes": products.codes}
    else:
        raise ValueError(f"{kind!r} is not one of {', '.join(KINDS[1:])}")
    progress.advance(len(vectors))
    return arrays


def open_structure(kind: str, arrays: Mapping[str, NDArray[Any]]) -> Structure:
    """A structure from the arrays of its artifact."""
    size = sum(array.nbytes for array in arrays.values())
    held: Opened
    if kind == INT8:
        held = ByteCodes(arrays["codes"], arrays["scales"])
    elif kind == BINARY:
        held = BitCodes(arrays["words"], arrays["mean"])
    elif kind == IVF:
        held = Cells(
            arrays["centers"], arrays["begins"], arrays["members"], ByteCodes(arrays["codes"], arrays["scales"])
        )
    elif kind == PQ:
        held = ProductCodes(arrays["centers"], arrays["codes"])
    else:
        links, breadth, entry = arrays["settings"].tolist()
        held = Graph(
            ByteCodes(arrays["codes"], arrays["scales"]), arrays["halves"], arrays["levels"], arrays["near"],
            arrays["far_begins"], arrays["far"], links, breadth, entry,
        )  # fmt: skip
    return Structure(kind, held, size)


def grown(
    structure: Structure, now: NDArray[np.int64], vectors: Vectors, progress: Progress | None = None
) -> Arrays | None:
    """A structure over more vectors, made from one over some of them; None where it has to be built anew.

    Parameters
    ----------
    now : (n,) int64 array
        Which row of `vectors` each row of the structure becomes; -1 where it is gone.
    """
    graph = structure.held
    alive = np.flatnonzero(now >= 0)
    if not isinstance(graph, Graph) or not len(alive):
        return None
    progress = progress or Silent()
    graph = without(graph, now < 0) if len(alive) < len(now) else graph
    others = np.setdiff1d(np.arange(len(vectors)), now[alive])
    progress.start("add to the graph", len(others), "chunks")
    halves = vectors.halves[others] if vectors.halves.size else vectors.halves
    graph = extended(graph, np.asarray(vectors.rows[others]), halves, said=progress.advance)
    order = np.empty(len(vectors), np.int64)
    order[np.concatenate([now[alive], others])] = np.arange(len(vectors))
    return _graph_arrays(reordered(graph, order))


def _graph_arrays(graph: Graph) -> Arrays:
    return {
        "codes": graph.codes.codes, "scales": graph.codes.scales, "halves": graph.halves, "levels": graph.levels,
        "near": graph.near, "far_begins": graph.far_begins, "far": graph.far,
        "settings": np.array([graph.links, graph.breadth, graph.entry], np.int64),
    }  # fmt: skip
