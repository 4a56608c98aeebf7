"""A navigable graph, in which equal vectors stand once; see `dense.graph` and `dense.equals`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import ByteCodes, byte_codes
from doppio.core.branches.dense.equals import Groups, equal_rows, grouped
from doppio.core.branches.dense.graph import Graph, build_graph, extended, graph_candidates, reordered, without
from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structures.kind import Arrays, Tried, over_fetch
from doppio.core.kernels.mapping import read_here_and_there
from doppio.core.kinds import Setting, whole
from doppio.core.progress import Progress


@dataclass(frozen=True)
class Opened:
    """A graph of different rows, and which rows each of them stands for."""

    graph: Graph
    groups: Groups

    def candidates(
        self, vectors: Vectors, question: Floats, count: int, settings: Mapping[str, Any], dead: NDArray[np.bool_]
    ) -> NDArray[np.int64]:
        found = graph_candidates(self.graph, question, count, settings["ef_search"], self.groups.gone(dead))
        return self.groups.rows(found, count, dead)


class Hnsw:
    """See the module."""

    name, title, order, edition = "hnsw", "graph (HNSW)", 4, 3
    summary = "ef {ef_search}"
    built = True
    settings: tuple[Setting, ...] = (
        whole("m", "Links a chunk (M)", 4, 64, 16, built=True, older=("links",)),
        whole("ef_construction", "Candidates when built (ef)", 8, 1000, 100, built=True, older=("breadth",)),
        whole("ef_search", "Candidates of a search (ef)", 1, 10_000, 80, older=("search",)),
        over_fetch(2),
    )
    tried: Sequence[Tried] = (
        (
            {"m": 16, "ef_construction": 100},
            tuple({"ef_search": width, "over_fetch": 2} for width in (20, 40, 80, 160)),
        ),
    )

    def build(self, vectors: Vectors, settings: Mapping[str, Any], progress: Progress) -> Arrays:
        owners = equal_rows(byte_codes(vectors.rows))
        groups = grouped(owners, int(owners.max(initial=-1)) + 1)
        firsts = groups.firsts(len(vectors))
        graph = build_graph(
            *_some(vectors, firsts),
            links=settings["m"],
            breadth=settings["ef_construction"],
            advance=progress.advance,
        )
        progress.advance(len(vectors) - len(firsts))
        return _arrays(Opened(graph, groups))

    def bytes_each(self, settings: Mapping[str, Any], dimension: int) -> float:
        return dimension + 9 + 4 * (2 * settings["m"] + 16) + 4 * (settings["m"] + 16) / settings["m"]

    def open(self, arrays: Mapping[str, NDArray[Any]]) -> Opened:
        links, breadth, entry = arrays["settings"].tolist()
        read_here_and_there(arrays["codes"], arrays["near"], arrays["far"])
        graph = Graph(
            ByteCodes(arrays["codes"], arrays["scales"]), arrays["halves"], arrays["levels"], arrays["near"],
            arrays["far_begins"], arrays["far"], links, breadth, entry,
        )  # fmt: skip
        return Opened(graph, Groups(arrays["begins"], arrays["members"]) if "members" in arrays else Groups())

    def grown(self, held: Opened, now: NDArray[np.int64], vectors: Vectors, progress: Progress) -> Arrays | None:
        alive = np.flatnonzero(now >= 0)
        if not len(alive):
            return None
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
        graph = extended(graph, *_some(vectors, others[firsts[added >= len(left)]]), advance=progress.advance)
        owner = np.empty(len(vectors), np.int64)
        owner[now[alive]] = np.searchsorted(left, owners[alive])
        owner[others] = group
        first = np.unique(owner, return_index=True)[1]
        order = np.argsort(first)
        groups = grouped(np.argsort(order)[owner], len(order))
        return _arrays(Opened(reordered(graph, order), groups))


def _some(vectors: Vectors, rows: NDArray[np.int64]) -> tuple[Floats, NDArray[np.float32]]:
    """Some rows of vectors, and what is taken from their products; without a copy where it is all of them."""
    if len(rows) == len(vectors):
        return vectors.rows, vectors.halves
    return np.asarray(vectors.rows[rows]), vectors.halves[rows] if vectors.halves.size else vectors.halves


def _arrays(held: Opened) -> Arrays:
    graph, groups = held.graph, held.groups
    equal: Arrays = {"begins": groups.begins, "members": groups.members} if groups.begins.size else {}
    return {
        "codes": graph.codes.codes, "scales": graph.codes.scales, "halves": graph.halves, "levels": graph.levels,
        "near": graph.near, "far_begins": graph.far_begins, "far": graph.far, **equal,
        "settings": np.array([graph.links, graph.breadth, graph.entry], np.int64),
    }  # fmt: skip


KIND = Hnsw()
