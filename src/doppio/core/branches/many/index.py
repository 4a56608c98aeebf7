"""The index of passages of many vectors as a question sees it: segments with their deletions, one ranking."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import question_code
from doppio.core.branches.dense.index import FEW
from doppio.core.branches.many.coding import Floats, TokenCodes
from doppio.core.branches.many.scan import best_seen, glance, score_codes, score_full
from doppio.core.fusion.pouring import Ranking
from doppio.core.kernels.lanes import LANES
from doppio.core.kernels.rows import Rows, named
from doppio.core.kernels.spans import in_spans
from doppio.core.models.token_vectors import Segment
from doppio.core.ranking import best_of

# How many chunks by their cells are looked at by their codes, for each that is scored by its full vectors.
LOOKED_AT = 4
# From so many chunks on their scores are shared among threads.
WORTH_SHARING = 64


@dataclass(frozen=True)
class Asked:
    """A question as its vectors.

    vectors : (q, d) float32, of unit length
    weights : (q,) float32, at least 0, which add up to 1
    """

    vectors: Floats
    weights: NDArray[np.float32]


@dataclass(frozen=True)
class Held:
    """Full vectors of the chunks of a segment, and their codes where there are."""

    full: Segment
    codes: TokenCodes | None = None

    def __len__(self) -> int:
        return len(self.full.spans)


class ManyIndex:
    """Segments that are searched as one.

    Notes
    -----
    A chunk scores the weighted mean over the question's vectors of the best cosine with one of its own (Khattab and
    Zaharia 2020; the weights are ours). Cells and codes only propose: every score that leaves here was computed from
    the full vectors, in whole numbers. So where all chunks are compared the ranking does not depend on how they are
    spread over segments.
    """

    def __init__(self, segments: Sequence[Held]) -> None:
        self.segments = list(segments)
        self._alive = [_alive(segment.full) for segment in self.segments]

    @property
    def vectors(self) -> int:
        return sum(int(segment.full.spans[:, 1].sum()) for segment in self.segments)

    @property
    def dimension(self) -> int:
        return int(self.segments[0].full.codes.shape[1]) if self.segments else 0

    @property
    def count(self) -> int:
        return sum(int(alive.sum()) for alive in self._alive)

    @property
    def full_bytes(self) -> int:
        return sum(s.full.codes.nbytes + s.full.scales.nbytes + s.full.spans.nbytes for s in self.segments)

    @property
    def code_bytes(self) -> int:
        return sum(segment.codes.bytes for segment in self.segments if segment.codes)

    def search(
        self, asked: Asked, depth: int, settings: Mapping[str, Any] | None, allowed: NDArray[np.bool_] | None = None
    ) -> Ranking:
        """Rank chunks for a question.

        Parameters
        ----------
        settings : mapping or None
            `probes`, cells looked into for each vector of the question, and `over_fetch`, how many times `depth`
            chunks are scored by their full vectors; None compares with all of them.
        allowed : (chunks,) bool array or None
            The chunks that may be found; None where all may.

        Returns
        -------
        chunks : (k,) int64, best first
        scores : (k,) float32
        """
        if depth <= 0 or not self.segments or not len(asked.vectors):
            return np.empty(0, np.int64), np.empty(0, np.float32)
        full = _whole_numbers(asked)
        parts = []
        for segment, alive in zip(self.segments, self._alive, strict=True):
            wanted = alive if allowed is None else alive & named(allowed, segment.full.now)
            many = np.count_nonzero(wanted) > FEW * len(segment)
            if settings is not None and segment.codes is not None and many:
                rows = proposed(segment.codes, asked, depth, settings, wanted)
            else:
                rows = np.flatnonzero(wanted)
            scores = _in_threads(rows, np.float64, score_full, segment.full.spans, segment.full.codes,
                                 segment.full.scales, *full)  # fmt: skip
            parts.append((segment.full.now[rows] if segment.full.now.size else rows, scores))
        return best_of(parts, depth)


def proposed(
    held: TokenCodes, asked: Asked, depth: int, settings: Mapping[str, Any], wanted: NDArray[np.bool_]
) -> Rows:
    """Rows worth scoring by their full vectors: chosen by cells first, then by codes.

    Notes
    -----
    Where a chunk has no token in a visited cell of a token of the question, it is taken to have one in the best of
    the others: what is added is how much more a visited cell is worth. Where too few chunks are met more cells are
    visited.
    """
    count = int(np.ceil(depth * settings["over_fetch"]))
    vectors = asked.vectors @ held.scale.turn
    near = held.scale.centers @ vectors.T
    rows = _by_cells(held, near, asked.weights, LOOKED_AT * count, settings["probes"], wanted)
    if len(rows) <= count:
        return rows
    by_byte = held.scale.by_byte
    tables = by_byte @ _in_lanes(vectors.T).reshape(-1, len(by_byte), by_byte.shape[2], LANES)
    scores = _in_threads(rows, np.float32, score_codes, held.bounds, held.cells, held.codes, _in_lanes(near), tables,
                         _in_lanes(asked.weights[None])[:, 0])  # fmt: skip
    return rows[np.lexsort((rows, -scores))[:count]]


def _by_cells(
    held: TokenCodes, near: Floats, weights: NDArray[np.float32], count: int, probes: int, wanted: NDArray[np.bool_]
) -> Rows:
    chunks, cells = len(held.bounds) - 1, len(near)
    there = int(wanted.sum())
    if there <= count:
        return np.flatnonzero(wanted)
    left_out = np.empty(0, np.bool_) if there == chunks else ~wanted
    while True:
        probes = min(probes, cells)
        visited = _best_cells(near, probes)
        worth = np.take_along_axis(near, visited, 0)
        floor = worth[-1] if probes < cells else np.zeros(len(weights), np.float32)
        scores, seen = np.zeros(chunks, np.float32), np.zeros(chunks, np.int32)
        gains = np.ascontiguousarray(((worth - floor) * weights).T)
        glance(np.ascontiguousarray(visited.T), gains, held.lists.begins, held.lists.gaps, scores, seen)
        heap_scores, heap_ids = np.empty(count, np.float32), np.empty(count, np.int64)
        size, met = best_seen(scores, seen, left_out, heap_scores, heap_ids)
        if met >= count or probes == cells:
            return heap_ids[:size]
        probes *= 4


def _best_cells(near: Floats, probes: int) -> NDArray[np.int64]:
    """Cells for every token of the question, the best first: (probes, q)."""
    found = np.argpartition(-near, probes - 1, axis=0)[:probes]
    order = np.argsort(-np.take_along_axis(near, found, 0), axis=0, kind="stable")
    return np.take_along_axis(found, order, 0)


def _in_lanes(of_tokens: Floats) -> Floats:
    """Numbers of the question's tokens, (m, q), sixteen tokens together: (g, m, 16); 0 where there are no more."""
    groups = -(-of_tokens.shape[1] // LANES)
    found = np.zeros((groups, len(of_tokens), LANES), np.float32)
    for group in range(groups):
        own = of_tokens[:, group * LANES : (group + 1) * LANES]
        found[group, :, : own.shape[1]] = own
    return found


def _whole_numbers(asked: Asked) -> tuple[NDArray[np.int16], NDArray[np.float32], NDArray[np.float64]]:
    pairs = [question_code(vector) for vector in asked.vectors]
    codes = np.array([code for code, _ in pairs], np.int16)
    return codes, np.array([scale for _, scale in pairs], np.float32), asked.weights.astype(np.float64)


def _in_threads(rows: Rows, dtype: Any, scan: Any, *given: Any) -> NDArray[Any]:
    """Scores of rows by a loop over them, shared among threads where they are many."""
    found = np.empty(len(rows), dtype)
    in_spans(len(rows), lambda span: scan(rows[slice(*span)], *given, found[slice(*span)]), WORTH_SHARING)
    return found


def _alive(segment: Segment) -> NDArray[np.bool_]:
    return segment.now >= 0 if segment.now.size else np.ones(len(segment.spans), bool)
