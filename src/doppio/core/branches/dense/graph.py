"""A navigable graph: from a few far links to many near ones, greedily towards the question.

The graph is built in batches: the members of a batch look for their neighbours at the same time, on several
threads, in the graph of all earlier batches (and among the batch itself, one against the other); then each thread
writes the links back to its own share of the nodes. No locks are needed, and the same vectors give the same graph
with any number of threads.

References
----------
.. [1] Y. Malkov, D. Yashunin, "Efficient and Robust Approximate Nearest Neighbor Search Using Hierarchical
   Navigable Small World Graphs", IEEE Transactions on Pattern Analysis and Machine Intelligence 42(4), 2020.
"""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.branches.dense.codes import ByteCodes, byte_codes, byte_product, question_code
from doppio.core.branches.dense.metric import Floats
from doppio.core.kernels.rows import ranges

BATCH = 512
SPARE = 16
HIGHEST = 12


@dataclass(frozen=True)
class Graph:
    """Links between n rows, held in one byte a number.

    codes : ByteCodes
    halves : (n,) float32 or empty, see `metric.Vectors`
    levels : (n,) int8, the highest level of each row
    near : (n, 2 * links + 16) int32, neighbours on level 0, -1 where there are fewer
    far_begins : (n,) int32, where a row's lists of the higher levels begin in `far`, or -1
    far : (lists, links + 16) int32
    links : int, neighbours a row is given on a level; twice as many on level 0
    breadth : int, candidates that were looked at for each row while building
    entry : int, the row where every search begins, or -1
    """

    codes: ByteCodes
    halves: NDArray[np.float32]
    levels: NDArray[np.int8]
    near: NDArray[np.int32]
    far_begins: NDArray[np.int32]
    far: NDArray[np.int32]
    links: int
    breadth: int
    entry: int

    def __len__(self) -> int:
        return len(self.levels)


def build_graph(
    rows: Floats,
    halves: NDArray[np.float32],
    *,
    links: int = 16,
    breadth: int = 100,
    threads: int = 2,
    advance: Callable[[int], None] | None = None,
) -> Graph:
    """Build a graph over (n, d) float32 rows.

    Parameters
    ----------
    links : int
        Neighbours a row is given; more find more and take more memory.
    breadth : int
        Candidates looked at for each row; more take longer and make a better graph.
    advance : callable, optional
        Told how many rows were added, after every batch; may raise to stop the build.
    """
    empty = ByteCodes(np.empty((0, rows.shape[1]), np.int8), np.empty(0, np.float32))
    start = Graph(
        empty, np.empty(0, np.float32), np.empty(0, np.int8), np.empty((0, 2 * links + SPARE), np.int32),
        np.empty(0, np.int32), np.empty((0, links + SPARE), np.int32), links, breadth, -1,
    )  # fmt: skip
    return extended(start, rows, halves, threads=threads, advance=advance)


def extended(
    graph: Graph,
    rows: Floats,
    halves: NDArray[np.float32],
    *,
    threads: int = 2,
    advance: Callable[[int], None] | None = None,
) -> Graph:
    """A graph with (m, d) more rows, which follow those that are there; the given graph stays as it is."""
    before, count = len(graph), len(graph) + len(rows)
    made = byte_codes(rows)
    codes = ByteCodes(
        np.concatenate([graph.codes.codes, made.codes]), np.concatenate([graph.codes.scales, made.scales])
    )
    halves = np.concatenate([graph.halves, halves]).astype(np.float32)
    levels = np.concatenate([graph.levels, _levels(before, count, graph.links)]).astype(np.int8)
    near = np.full((count, graph.near.shape[1]), -1, np.int32)
    near[:before] = graph.near
    fresh = levels[before:].astype(np.int32)
    begins = np.where(fresh > 0, len(graph.far) + np.cumsum(fresh) - fresh, -1).astype(np.int32)
    far = np.full((len(graph.far) + int(fresh.sum()), graph.far.shape[1]), -1, np.int32)
    far[: len(graph.far)] = graph.far
    far_begins = np.concatenate([graph.far_begins, begins])
    entry, done = graph.entry, before
    with ThreadPoolExecutor(threads) as pool:
        submit: Any = pool.submit
        while done < count:
            if entry < 0:
                entry, done = 0, 1
                continue
            size = min(max(1, done // 8), BATCH, count - done)
            shared = (codes.codes, codes.scales, halves, levels, near, far_begins, far, graph.links)
            step = -(-size // (4 * threads))
            spans = [(low, min(low + step, done + size)) for low in range(done, done + size, step)]
            jobs = [submit(find_links, *span, done, entry, graph.breadth, *shared) for span in spans]
            for job in jobs:
                job.result()
            low, high = _span(far_begins[done : done + size], levels[done : done + size])
            choices = near[done : done + size, : graph.links].copy(), low, far[low:high, : graph.links].copy()
            batch = done, done + size
            jobs = [submit(link_back, *batch, part, threads, *choices, *shared) for part in range(threads)]
            for job in jobs:
                job.result()
            top = int(levels[done : done + size].argmax()) + done
            if levels[top] > levels[entry]:
                entry = top
            done += size
            if advance:
                advance(size)
    return Graph(codes, halves, levels, near, far_begins, far, graph.links, graph.breadth, entry)


def without(graph: Graph, dead: NDArray[np.bool_]) -> Graph:
    """A graph of the rows that are left, numbered in their order; who lost a neighbour takes over that one's.

    Notes
    -----
    A row that loses neighbours chooses anew among those that it keeps and the living ones of those that it lost.
    """
    alive = np.flatnonzero(~dead)
    near, far = graph.near.copy(), graph.far.copy()
    bridge(dead, graph.codes.codes, graph.codes.scales, graph.halves, graph.levels, graph.near, near,
           graph.far_begins, graph.far, far, graph.links)  # fmt: skip
    bridged = replace(graph, near=near, far=far)
    return reordered(bridged, alive)


def reordered(graph: Graph, rows: NDArray[np.int64]) -> Graph:
    """The graph whose row i is row `rows[i]` of the given one; links to rows that are not named are dropped."""
    now = np.full(len(graph) + 1, -1, np.int32)
    now[rows] = np.arange(len(rows), dtype=np.int32)
    levels = graph.levels[rows]
    tall = levels.astype(np.int64)
    begins = np.where(tall > 0, np.cumsum(tall) - tall, -1).astype(np.int32)
    lists = ranges(graph.far_begins[rows].astype(np.int64), tall)
    return Graph(
        ByteCodes(graph.codes.codes[rows], graph.codes.scales[rows]),
        graph.halves[rows] if graph.halves.size else graph.halves,
        levels, packed_links(now[graph.near[rows]]), begins, packed_links(now[graph.far[lists]]), graph.links,
        graph.breadth, int(levels.argmax()) if len(rows) else -1,
    )  # fmt: skip


@njit(cache=True, nogil=True)
def packed_links(lists: NDArray[np.int32]) -> NDArray[np.int32]:
    """Lists without the gaps between their entries, since the first -1 ends a list."""
    found = np.full(lists.shape, -1, np.int32)
    for row in range(lists.shape[0]):
        size = 0
        for place in range(lists.shape[1]):
            if lists[row, place] >= 0:
                found[row, size] = lists[row, place]
                size += 1
    return found


def graph_candidates(
    graph: Graph, question: Floats, count: int, breadth: int, dead: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """The best `count` rows that a search of that breadth meets, best first; deleted ones are passed through.

    Parameters
    ----------
    breadth : int
        How many of the best rows met so far are followed up; at least `count` are.
    """
    if graph.entry < 0:
        return np.empty(0, np.int64)
    short, scale = question_code(question)
    return search_graph(
        short, np.float32(scale), count, max(breadth, count), dead, graph.entry, graph.codes.codes,
        graph.codes.scales, graph.halves, graph.levels, graph.near, graph.far_begins, graph.far,
    )  # fmt: skip


def _span(begins: NDArray[np.int32], levels: NDArray[np.int8]) -> tuple[int, int]:
    """The lists of higher levels that rows in a row have."""
    tall = np.flatnonzero(levels > 0)
    if not len(tall):
        return 0, 0
    return int(begins[tall[0]]), int(begins[tall[-1]]) + int(levels[tall[-1]])


def _levels(first: int, last: int, links: int) -> NDArray[np.int8]:
    """Levels of the rows [first, last): each next one is 1 / links as likely; the same for the same row."""
    state = np.arange(first, last, dtype=np.uint64) + np.uint64(0x9E3779B97F4A7C15)
    with np.errstate(over="ignore"):
        for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
            state = (state ^ (state >> np.uint64(shift))) * np.uint64(factor)
    chance = ((state ^ (state >> np.uint64(31))) >> np.uint64(11)).astype(np.float64) / 2.0**53
    found = np.floor(-np.log(np.maximum(chance, 1e-18)) / np.log(max(links, 2)))
    return np.minimum(found, HIGHEST).astype(np.int8)


@njit(cache=True, nogil=True)
def likeness(codes, scales, halves, a, b):  # type: ignore[no-untyped-def]
    """Score of two rows against each other, from their codes."""
    total = np.int32(0)
    for column in range(codes.shape[1]):
        total = np.int32(total + np.int32(np.int32(codes[a, column]) * np.int32(codes[b, column])))
    score = np.float32(total) * scales[a] * scales[b]
    if halves.size:
        score -= halves[a] + halves[b]
    return score


@njit(cache=True, nogil=True)
def _to_question(codes, scales, halves, row, question, scale):  # type: ignore[no-untyped-def]
    score = np.float32(byte_product(codes, row, question)) * scales[row] * scale
    if halves.size:
        score -= halves[row]
    return score


@njit(cache=True, nogil=True)
def _descend(question, scale, entry, from_level, to_level, codes, scales, halves, far_begins, far):  # type: ignore[no-untyped-def]
    """Walk greedily from the entry down to the level above `to_level`."""
    here = entry
    best = _to_question(codes, scales, halves, here, question, scale)
    for level in range(from_level, to_level, -1):
        moved = True
        while moved:
            moved = False
            for other in far[far_begins[here] + level - 1]:
                if other < 0:
                    break
                score = _to_question(codes, scales, halves, other, question, scale)
                if score > best:
                    best, here, moved = score, np.int64(other), True
    return here


@njit(cache=True, nogil=True)
def _beam(question, scale, start, level, breadth, seen, codes, scales, halves, near, far_begins, far, ids, scores):  # type: ignore[no-untyped-def]
    """Best `breadth` rows met on a level, best first, into `ids` and `scores`; returns how many.

    `seen` is a bit a row, all zero; it is cleared again before the end.
    """
    done = np.zeros(breadth, np.bool_)
    visited = np.empty(1024, np.int64)
    ids[0], scores[0] = start, _to_question(codes, scales, halves, start, question, scale)
    seen[start >> 6] |= np.uint64(1) << np.uint64(start & 63)
    visited[0], met = start, 1
    size, at = 1, 0
    while at < size:
        if done[at]:
            at += 1
            continue
        done[at] = True
        row = ids[at]
        nearest = at + 1
        links = near[row] if level == 0 else far[far_begins[row] + level - 1]
        for other in links:
            if other < 0:
                break
            bit = np.uint64(1) << np.uint64(other & 63)
            if seen[other >> 6] & bit:
                continue
            seen[other >> 6] |= bit
            if met == visited.size:
                more = np.empty(2 * met, np.int64)
                more[:met] = visited
                visited = more
            visited[met] = other
            met += 1
            score = _to_question(codes, scales, halves, other, question, scale)
            if size == breadth and score <= scores[size - 1]:
                continue
            low, high = 0, size
            while low < high:
                middle = (low + high) // 2
                if scores[middle] >= score:
                    low = middle + 1
                else:
                    high = middle
            if size < breadth:
                size += 1
            for place in range(size - 1, low, -1):
                ids[place], scores[place], done[place] = ids[place - 1], scores[place - 1], done[place - 1]
            ids[low], scores[low], done[low] = other, score, False
            nearest = min(nearest, low)
        at = min(at, nearest)
    for place in range(met):
        seen[visited[place] >> 6] = np.uint64(0)
    return size


@njit(cache=True, nogil=True)
def search_graph(
    question: NDArray[np.int16],
    scale: np.float32,
    count: int,
    breadth: int,
    dead: NDArray[np.bool_],
    entry: int,
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    levels: NDArray[np.int8],
    near: NDArray[np.int32],
    far_begins: NDArray[np.int32],
    far: NDArray[np.int32],
) -> NDArray[np.int64]:
    """See `graph_candidates`; a beam that meets too many deleted rows is widened."""
    rows = levels.size
    start = _descend(question, scale, np.int64(entry), levels[entry], 0, codes, scales, halves, far_begins, far)
    seen = np.zeros((rows + 63) // 64, np.uint64)
    breadth = min(breadth, rows)
    while True:
        ids, scores = np.empty(breadth, np.int64), np.empty(breadth, np.float32)
        size = _beam(
            question, scale, start, 0, breadth, seen, codes, scales, halves, near, far_begins, far, ids, scores
        )
        found = np.empty(min(count, size), np.int64)
        alive = 0
        for place in range(size):
            if alive == found.size:
                break
            if not (dead.size and dead[ids[place]]):
                found[alive] = ids[place]
                alive += 1
        if alive == min(count, rows) or breadth >= rows or size < breadth:
            return found[:alive]
        breadth = min(2 * breadth, rows)


@njit(cache=True, nogil=True)
def _choose(base, candidates, scores, size, wanted, codes, scales, halves, chosen):  # type: ignore[no-untyped-def]
    """Neighbours that are nearer to the base than to one another, best first, into `chosen`; returns how many."""
    kept = 0
    for place in range(size):
        if kept == wanted:
            break
        row = candidates[place]
        if row == base:
            continue
        apart = True
        for other in range(kept):
            if chosen[other] == row or likeness(codes, scales, halves, row, chosen[other]) > scores[place]:
                apart = False
                break
        if apart:
            chosen[kept] = row
            kept += 1
    return kept


@njit(cache=True, nogil=True)
def _sorted_by(base, rows, size, codes, scales, halves, scores):  # type: ignore[no-untyped-def]
    """Sort rows by their likeness to the base, best first, equal ones by number; fills `scores`."""
    for place in range(size):
        row = rows[place]
        score = likeness(codes, scales, halves, base, row)
        at = place
        while at > 0 and (scores[at - 1] < score or (scores[at - 1] == score and rows[at - 1] > row)):
            scores[at], rows[at] = scores[at - 1], rows[at - 1]
            at -= 1
        scores[at], rows[at] = score, row


@njit(cache=True, nogil=True)
def find_links(
    low: int,
    high: int,
    first: int,
    entry: int,
    breadth: int,
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    levels: NDArray[np.int8],
    near: NDArray[np.int32],
    far_begins: NDArray[np.int32],
    far: NDArray[np.int32],
    links: int,
) -> None:
    """Choose the neighbours of the rows [low, high) among those before `first` and the batch's earlier ones."""
    dimension = codes.shape[1]
    seen = np.zeros((first + 63) // 64, np.uint64)
    question = np.empty(dimension, np.int16)
    room = breadth + BATCH
    ids, scores = np.empty(room, np.int64), np.empty(room, np.float32)
    chosen = np.empty(links, np.int64)
    for row in range(low, high):
        for column in range(dimension):
            question[column] = codes[row, column]
        scale = scales[row]
        top = min(levels[row], levels[entry])
        here = _descend(question, scale, np.int64(entry), levels[entry], top, codes, scales, halves, far_begins, far)
        for level in range(top, -1, -1):
            size = _beam(
                question, scale, here, level, breadth, seen, codes, scales, halves, near, far_begins, far, ids, scores
            )
            here = ids[0]
            worst = scores[size - 1] if size == breadth else np.float32(-np.inf)
            if halves.size:
                for place in range(size):
                    scores[place] -= halves[row]
            for mate in range(first, row):
                if levels[mate] < level:
                    continue
                score = likeness(codes, scales, halves, row, mate)
                if score <= worst - (halves[row] if halves.size else np.float32(0.0)):
                    continue
                at = size
                size += 1
                while at > 0 and scores[at - 1] < score:
                    scores[at], ids[at] = scores[at - 1], ids[at - 1]
                    at -= 1
                scores[at], ids[at] = score, mate
            kept = _choose(row, ids, scores, size, links, codes, scales, halves, chosen)
            for place in range(kept):
                if level == 0:
                    near[row, place] = chosen[place]
                else:
                    far[far_begins[row] + level - 1, place] = chosen[place]


@njit(cache=True, nogil=True)
def link_back(
    low: int,
    high: int,
    part: int,
    parts: int,
    chosen_near: NDArray[np.int32],
    far_low: int,
    chosen_far: NDArray[np.int32],
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    levels: NDArray[np.int8],
    near: NDArray[np.int32],
    far_begins: NDArray[np.int32],
    far: NDArray[np.int32],
    links: int,
) -> None:
    """Add the rows [low, high) to the lists of their neighbours; this thread has those of its part."""
    room = near.shape[1] + 1
    rows, scores, chosen = np.empty(room, np.int64), np.empty(room, np.float32), np.empty(room, np.int64)
    for row in range(low, high):
        for level in range(levels[row] + 1):
            # What the rows chose, as it was before any link back was written.
            own = chosen_near[row - low] if level == 0 else chosen_far[far_begins[row] + level - 1 - far_low]
            for place in range(links):
                other = own[place]
                if other < 0:
                    break
                if other % parts != part:
                    continue
                theirs = near[other] if level == 0 else far[far_begins[other] + level - 1]
                wanted = 2 * links if level == 0 else links
                size = 0
                while size < theirs.size and theirs[size] >= 0:
                    size += 1
                if size < theirs.size:
                    theirs[size] = row
                    continue
                for at in range(size):
                    rows[at] = theirs[at]
                rows[size] = row
                _sorted_by(other, rows, size + 1, codes, scales, halves, scores)
                kept = _choose(other, rows, scores, size + 1, wanted, codes, scales, halves, chosen)
                for at in range(theirs.size):
                    theirs[at] = chosen[at] if at < kept else -1


@njit(cache=True, nogil=True)
def bridge(
    dead: NDArray[np.bool_],
    codes: NDArray[np.int8],
    scales: NDArray[np.float32],
    halves: NDArray[np.float32],
    levels: NDArray[np.int8],
    near: NDArray[np.int32],
    near_now: NDArray[np.int32],
    far_begins: NDArray[np.int32],
    far: NDArray[np.int32],
    far_now: NDArray[np.int32],
    links: int,
) -> None:
    """Give living rows that lost neighbours new ones, from among the neighbours of those that are gone."""
    room = near.shape[1] * (near.shape[1] + 1)
    rows, scores, chosen = np.empty(room, np.int64), np.empty(room, np.float32), np.empty(room, np.int64)
    for row in range(dead.size):
        if dead[row]:
            continue
        for level in range(levels[row] + 1):
            own = near[row] if level == 0 else far[far_begins[row] + level - 1]
            size, lost = 0, False
            for other in own:
                if other < 0:
                    break
                if not dead[other]:
                    rows[size] = other
                    size += 1
                    continue
                lost = True
                beyond = near[other] if level == 0 else far[far_begins[other] + level - 1]
                for next_one in beyond:
                    if next_one < 0:
                        break
                    if not dead[next_one] and next_one != row:
                        rows[size] = next_one
                        size += 1
            if not lost:
                continue
            _sorted_by(row, rows, size, codes, scales, halves, scores)
            wanted = 2 * links if level == 0 else links
            kept = _choose(row, rows, scores, size, wanted, codes, scales, halves, chosen)
            theirs = near_now[row] if level == 0 else far_now[far_begins[row] + level - 1]
            for at in range(theirs.size):
                theirs[at] = chosen[at] if at < kept else -1
