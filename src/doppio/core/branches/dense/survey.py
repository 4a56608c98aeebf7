"""Speed against exactness, measured on the very vectors that will be searched."""

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from functools import partial
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.metric import Floats, Vectors
from doppio.core.branches.dense.structure import Structure, build_structure, open_structure
from doppio.core.branches.dense.structures.exact import EXACT
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.kinds import Settings
from doppio.core.progress import Progress, Silent

Question = TypeVar("Question")
DEPTH = 10
LEAST_SECONDS = 0.1


@dataclass(frozen=True)
class Point:
    """What was measured with one choice of settings.

    structure : mapping
        A structure of a branch with its settings; or settings of a branch, where there is a title.
    recall : share of the exact first 10 that it finds, mean over the questions
    per_second : questions a second, one after another
    bytes : of the structure, beside the full vectors
    seconds : to build it
    title, summary : how people tell it from others, where `structure` does not say
    """

    structure: Settings
    recall: float
    per_second: float
    bytes: int
    seconds: float
    title: str = ""
    summary: str = ""

    def as_json(self) -> dict[str, object]:
        return asdict(self)


def survey(vectors: Vectors, questions: Floats, metric: str, progress: Progress | None = None) -> Iterator[Point]:
    """Build every structure over the vectors and measure it against the exact search.

    Parameters
    ----------
    vectors : Vectors
        All chunks, n rows.
    questions : (q, d) float32 array
        As they are asked, q >= 1.

    Yields
    ------
    Point
        The exact search first, whose recall is 1.
    """
    progress = progress or Silent()
    exact = {"kind": EXACT}
    plain = DenseIndex([Segment(vectors)], metric)
    truth = [set(ids.tolist()) for ids, _ in plain.search_many(questions, DEPTH)]
    tried = [({"kind": kind.name, **built}, choices) for kind in STRUCTURES for built, choices in kind.tried]
    progress.start("measure structures", 1 + sum(len(choices) for _, choices in tried), "settings")
    yield Point(exact, 1.0, rate(partial(_search, plain, None), list(questions)), 0, 0.0)
    progress.advance(1)
    for built, choices in tried:
        begun = time.perf_counter()
        structure = open_structure(built["kind"], build_structure(vectors, built))
        seconds = time.perf_counter() - begun
        yield from _measured(vectors, structure, built, choices, questions, truth, metric, seconds, progress)


def _measured(
    vectors: Vectors, structure: Structure, built: Mapping[str, Any], choices: Sequence[Mapping[str, Any]],
    questions: Floats, truth: Sequence[set[int]], metric: str, seconds: float, progress: Progress,
) -> Iterator[Point]:  # fmt: skip
    index = DenseIndex([Segment(vectors, structure)], metric)
    for choice in choices:
        settings = {**built, **choice}
        found = [index.search(question, DEPTH, settings)[0] for question in questions]
        recall = float(
            np.mean([len(wanted & set(ids.tolist())) / len(wanted) for wanted, ids in zip(truth, found, strict=True)])
        )
        speed = rate(partial(_search, index, settings), list(questions))
        yield Point(settings, recall, speed, structure.bytes, seconds)
        progress.advance(1)


def _search(index: DenseIndex, settings: Mapping[str, Any] | None, question: Floats) -> object:
    return index.search(question, DEPTH, settings)


def rate(search: Callable[[Question], object], questions: Sequence[Question]) -> float:
    """Questions a second, one after another, over a tenth of a second at least."""
    asked = 0
    begun = time.perf_counter()
    while True:
        search(questions[asked % len(questions)])
        asked += 1
        took = time.perf_counter() - begun
        if took >= LEAST_SECONDS:
            return asked / took


def joined(index: DenseIndex) -> Vectors:
    """The vectors of all chunks by their numbers; of a single whole segment its own, mapped from disk."""
    only = index.segments[0]
    if len(index.segments) == 1 and not only.now.size:
        return only.vectors
    rows = np.zeros((index.count, index.dimension), np.float32)
    halves = np.zeros(index.count if only.vectors.halves.size else 0, np.float32)
    squares = np.zeros(index.count if any(part.vectors.squares.size for part in index.segments) else 0, np.float32)
    for segment in index.segments:
        now = segment.now if segment.now.size else np.arange(len(segment.vectors))
        rows[now[now >= 0]] = segment.vectors.rows[now >= 0]
        if halves.size:
            halves[now[now >= 0]] = segment.vectors.halves[now >= 0]
    if squares.size:
        squares = np.einsum("ij,ij->i", rows, rows)
    return Vectors(rows, halves, squares)


def principal_axes(rows: NDArray[np.float32], count: int = 2) -> tuple[Floats, Floats, NDArray[np.float64]]:
    """The mean, the directions in which rows differ most, and the share of their variance that each holds.

    References
    ----------
    .. [1] K. Pearson, "On Lines and Planes of Closest Fit to Systems of Points in Space", Philosophical Magazine
       2(11), 1901.
    """
    mean = rows.mean(axis=0, dtype=np.float64)
    spread = np.zeros((rows.shape[1], rows.shape[1]))
    for first in range(0, len(rows), 1 << 14):
        part = rows[first : first + (1 << 14)] - mean
        spread += part.T @ part
    values, directions = np.linalg.eigh(spread)
    axes = directions[:, ::-1][:, :count].T
    # The sign of an axis is arbitrary; the largest number of each is made positive.
    axes = axes * np.sign(axes[np.arange(len(axes)), np.abs(axes).argmax(axis=1)])[:, None]
    shares = values[::-1][:count] / max(float(values.sum()), 1e-30)
    return mean.astype(np.float32), axes.astype(np.float32), shares
