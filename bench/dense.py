"""Dense structures beside bare NumPy over the same vectors."""

import time
from dataclasses import replace
from typing import Any

import numpy as np
from bench.timing import Row, in_turns
from numpy.typing import NDArray

from doppio.core.branches.dense.graph import extended
from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.metric import Vectors
from doppio.core.branches.dense.structure import build_structure, open_structure

DEPTH, ASKED, ADDED = 10, 200, 5000
# Of the chunks, that may be found; and how many questions are asked so.
SHARES, FILTERED = (0.01, 0.1), 60
NO_HALVES = np.empty(0, np.float32)
TRIED: dict[str, dict[str, Any]] = {
    "int8": {"kind": "int8", "over_fetch": 2},
    "binary": {"kind": "binary", "over_fetch": 10},
    "hnsw": {"kind": "hnsw", "m": 16, "ef_construction": 100, "ef_search": 60, "over_fetch": 2},
    "ivf": {"kind": "ivf", "cells": 0, "probes": 32, "over_fetch": 2},
    "pq": {"kind": "pq", "parts": 48, "over_fetch": 10},
}


def filtered(
    rows: NDArray[np.float32],
    index: DenseIndex,
    own: DenseIndex,
    questions: NDArray[np.float32],
    settings: dict[str, Any],
    share: float,
) -> tuple[list[Row], dict[str, float]]:
    """A structure beside exact search where only a share of the chunks may be found: those about one matter, which
    are near each other, as a condition on documents has it."""
    nearness = rows @ rows[len(rows) // 3]
    allowed = nearness >= np.quantile(nearness, 1 - share)
    asked = [question[None] for question in questions]
    beside, seconds = in_turns(
        lambda q: index.search_many(q, DEPTH, {"kind": "exact"}, allowed),
        lambda q: own.search_many(q, DEPTH, settings, allowed),
        asked,
    )
    exact = [set(index.search_many(q, DEPTH, {"kind": "exact"}, allowed)[0][0].tolist()) for q in asked]
    found = [own.search_many(q, DEPTH, settings, allowed)[0][0] for q in asked]
    recall = float(np.mean([len(t & set(f.tolist())) / DEPTH for t, f in zip(exact, found, strict=True)]))
    assert all(allowed[hits].all() and len(hits) == DEPTH for hits in found)
    name = f"{share:.0%} may be found"
    table = [
        Row(f"{name}, one question", "exact among these", "", beside / seconds, None, True),
        Row(f"{name}, recall@10", "exact among these", "", recall, None, True),
    ]
    return table, {f"ms, {name}": 1e3 * seconds, f"recall, {name}": recall}


def measure(
    vectors: NDArray[np.float32], questions: NDArray[np.float32], kinds: tuple[str, ...]
) -> tuple[list[Row], dict[str, float]]:
    """Ratios over (n, d) vectors, and the figures behind them."""
    rows = np.ascontiguousarray(vectors)
    given = Vectors(rows, NO_HALVES)
    index = DenseIndex([Segment(given)])
    asked = list(questions[:ASKED])

    def bare(question: NDArray[np.float32]) -> NDArray[np.int64]:
        scores = rows @ question
        return np.argpartition(-scores, DEPTH)[:DEPTH]

    for question in asked[:5]:
        bare(question)
        index.search(question, DEPTH)
    one_bare, one = in_turns(bare, lambda question: index.search(question, DEPTH), asked)
    table = [
        Row(
            "exact, one question", "matrix-vector product + argpartition", "at most 1.25", one / one_bare, 1.25, False
        )
    ]
    batch = questions[:256]
    bare_batch, own_batch = in_turns(
        lambda _: batch @ rows.T, lambda _: index.search_many(batch, DEPTH), [None] * 9, turn=1
    )
    table.append(Row("exact, batch of 256", "matrix product", "at most 1.3", own_batch / bare_batch, 1.3, False))
    truth = [set(ids.tolist()) for ids, _ in index.search_many(questions[:ASKED], DEPTH)]
    figures = {"exact ms": 1e3 * one, "bare ms": 1e3 * one_bare}
    for kind in kinds:
        settings = TRIED[kind]
        begun = time.perf_counter()
        structure = open_structure(kind, build_structure(given, settings))
        figures[f"{kind} build s"] = time.perf_counter() - begun
        own = DenseIndex([Segment(given, structure)])
        own.search(asked[0], DEPTH, settings)
        beside, seconds = in_turns(
            lambda q: index.search(q, DEPTH),
            lambda q, own=own, settings=settings: own.search(q, DEPTH, settings),
            asked,
        )
        found = [own.search(q, DEPTH, settings)[0] for q in asked]
        recall = float(np.mean([len(t & set(f.tolist())) / DEPTH for t, f in zip(truth, found, strict=True)]))
        figures |= {f"{kind} ms": 1e3 * seconds, f"{kind} recall": recall, f"{kind} MB": structure.bytes / 1e6}
        bound, least = {"int8": (2.5, 0.99), "binary": (8.0, 0.95), "hnsw": (20.0, 0.97)}.get(kind, (None, None))
        wanted = f"at least {bound:g}" if bound else ""
        table.append(Row(f"{kind}, one question", "exact float32", wanted, beside / seconds, bound, True))
        table.append(
            Row(f"{kind}, recall@10", "exact float32", f"at least {least}" if least else "", recall, least, True)
        )
        for share in SHARES:
            rows_of, told = filtered(rows, index, own, questions[:FILTERED], settings, share)
            table += [replace(row, what=f"{kind}, {row.what}") for row in rows_of]
            figures |= {f"{kind} {name}": value for name, value in told.items()}
        if kind == "hnsw":
            minutes = figures["hnsw build s"] / 60
            table.append(Row("hnsw, build", "6 minutes", "at most 1", minutes / 6, 1.0, False))
            new = questions[:ADDED]
            begun = time.perf_counter()
            extended(structure.held.graph, new, NO_HALVES)  # type: ignore[union-attr]
            rate = len(new) / (time.perf_counter() - begun)
            table.append(Row("hnsw, adds", "1,000 vectors a second", "at least 1", rate / 1000, 1.0, True))
            figures["hnsw adds a second"] = rate
    return table, figures
