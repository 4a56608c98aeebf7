"""Ways to find near vectors: exact, compressed, by cells, by a graph; built over one segment and kept as arrays."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.dense.bits import BitCodes, bit_candidates, bit_codes
from doppio.core.dense.cells import Cells, build_cells, cell_candidates
from doppio.core.dense.codes import ByteCodes, byte_candidates, byte_codes
from doppio.core.dense.equals import Groups, equal_rows, grouped
from doppio.core.dense.graph import Graph, build_graph, extended, graph_candidates, reordered, without
from doppio.core.dense.metric import Floats, Vectors
from doppio.core.dense.products import ProductCodes, build_products, product_candidates
from doppio.core.progress import Progress, Silent

KIND = "structure"
EXACT, INT8, BINARY, HNSW, IVF, PQ = "exact", "int8", "binary", "hnsw", "ivf", "pq"
KINDS = (EXACT, INT8, BINARY, HNSW, IVF, PQ)
# What is settled when the structure is built; all other settings apply when a question is asked.
BUILT = {EXACT: (), INT8: (), BINARY: (), HNSW: ("links", "breadth"), IVF: ("cells",), PQ: ("parts",)}
Arrays = dict[str, NDArray[Any]]
# Editions of kinds that were built otherwise before, so that what was built then is built anew.
EDITIONS = {HNSW: 2, IVF: 2, BINARY: 2, PQ: 2}


@dataclass(frozen=True)
class GroupedGraph:
    """A graph of different rows, and which rows each of them stands for."""

    graph: Graph
    groups: Groups


Opened = ByteCodes | BitCodes | GroupedGraph | Cells | ProductCodes


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
        if isinstance(held, GroupedGraph):
            found = graph_candidates(held.graph, question, count, settings["search"], held.groups.gone(dead))
            return held.groups.rows(found, count, dead)
        if isinstance(held, Cells):
            return cell_candidates(held, vectors.halves, question, count, settings["probes"], dead)
        return product_candidates(held, vectors.halves, question, count, dead)


def built_settings(settings: Mapping[str, Any]) -> dict[str, Any]:
    """The part of a recipe's `structure` that its artifact depends on."""
    kind = settings["kind"]
    edition = {"edition": EDITIONS[kind]} if kind in EDITIONS else {}
    return {"kind": kind, **{name: settings[name] for name in BUILT[kind]}, **edition}


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
        owners = equal_rows(byte_codes(vectors.rows))
        groups = grouped(owners, int(owners.max(initial=-1)) + 1)
        firsts = groups.firsts(len(vectors))
        graph = build_graph(
            *_some(vectors, firsts), links=settings["links"], breadth=settings["breadth"], said=progress.advance
        )
        progress.advance(len(vectors) - len(firsts))
        return _graph_arrays(GroupedGraph(graph, groups))
    arrays: Arrays
    if kind == INT8:
        codes = byte_codes(vectors.rows)
        arrays = {"codes": codes.codes, "scales": codes.scales}
    elif kind == BINARY:
        bits = bit_codes(vectors.rows, vectors.squares)
        arrays = {"words": bits.words, "mean": bits.mean, "lengths": bits.lengths}
    elif kind == IVF:
        wanted = settings["cells"] or max(1, int(4 * np.sqrt(len(vectors))))
        cells = build_cells(vectors.rows, vectors.squares, wanted)
        arrays = {"centers": cells.centers, "center_halves": cells.center_halves, "begins": cells.begins,
                  "members": cells.members, "codes": cells.codes.codes, "scales": cells.codes.scales}  # fmt: skip
    elif kind == PQ:
        products = build_products(vectors.rows, settings["parts"])
        arrays = {"rotation": products.rotation, "centers": products.centers, "codes": products.codes,
                  "count": np.array([products.count], np.int64)}  # fmt: skip
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
        held = BitCodes(arrays["words"], arrays["mean"], arrays["lengths"])
    elif kind == IVF:
        held = Cells(
            arrays["centers"],
            arrays["center_halves"],
            arrays["begins"],
            arrays["members"],
            ByteCodes(arrays["codes"], arrays["scales"]),
        )
    elif kind == PQ:
        held = ProductCodes(arrays["rotation"], arrays["centers"], arrays["codes"], int(arrays["count"][0]))
    else:
        links, breadth, entry = arrays["settings"].tolist()
        graph = Graph(
            ByteCodes(arrays["codes"], arrays["scales"]), arrays["halves"], arrays["levels"], arrays["near"],
            arrays["far_begins"], arrays["far"], links, breadth, entry,
        )  # fmt: skip
        held = GroupedGraph(graph, Groups(arrays["begins"], arrays["members"]) if "members" in arrays else Groups())
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
    held = structure.held
    alive = np.flatnonzero(now >= 0)
    if not isinstance(held, GroupedGraph) or not len(alive):
        return None
    progress = progress or Silent()
    graph, owners = held.graph, held.groups.owners(len(now))
    left = np.unique(owners[alive])
    if len(left) < len(graph):
        gone = np.ones(len(graph), bool)
        gone[left] = False
        graph = without(graph, gone)
    others = np.setdiff1d(np.arange(len(vectors)), now[alive])
    progress.start("add to the graph", len(others), "chunks")
    fresh = byte_codes(np.asarray(vectors.rows[others]))
    # What is in the graph stands before what comes, so the first row of a group tells whether it is there.
    both = [np.concatenate(pair) for pair in zip(vars(graph.codes).values(), vars(fresh).values(), strict=True)]
    group = equal_rows(ByteCodes(*both))
    # A graph of an older edition holds equal rows apart.
    if (group[: len(left)] != np.arange(len(left))).any():
        return None
    group = group[len(left) :]
    added, firsts = np.unique(group, return_index=True)
    progress.advance(len(others) - int((added >= len(left)).sum()))
    graph = extended(graph, *_some(vectors, others[firsts[added >= len(left)]]), said=progress.advance)
    owner = np.empty(len(vectors), np.int64)
    owner[now[alive]] = np.searchsorted(left, owners[alive])
    owner[others] = group
    first = np.unique(owner, return_index=True)[1]
    order = np.argsort(first)
    groups = grouped(np.argsort(order)[owner], len(order))
    return _graph_arrays(GroupedGraph(reordered(graph, order), groups))


def _some(vectors: Vectors, rows: NDArray[np.int64]) -> tuple[Floats, NDArray[np.float32]]:
    """Some rows of vectors, and what is taken from their products; without a copy where it is all of them."""
    if len(rows) == len(vectors):
        return vectors.rows, vectors.halves
    return np.asarray(vectors.rows[rows]), vectors.halves[rows] if vectors.halves.size else vectors.halves


def _graph_arrays(held: GroupedGraph) -> Arrays:
    graph, groups = held.graph, held.groups
    equal: Arrays = {"begins": groups.begins, "members": groups.members} if groups.begins.size else {}
    return {
        "codes": graph.codes.codes, "scales": graph.codes.scales, "halves": graph.halves, "levels": graph.levels,
        "near": graph.near, "far_begins": graph.far_begins, "far": graph.far, **equal,
        "settings": np.array([graph.links, graph.breadth, graph.entry], np.int64),
    }  # fmt: skip
