"""The pictures of a corpus as a question sees them: found by words, by another picture, or by both."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.many.index import Asked, Held, ManyIndex
from doppio.core.branches.picture.guess import fitted
from doppio.core.branches.picture.laying import laid_over
from doppio.core.branches.picture.making import GUESSED, READ, SAID, SEEN, Pictures
from doppio.core.fusion.pouring import Ranking
from doppio.core.kernels.rows import named
from doppio.core.models.looks import Look
from doppio.core.models.token_vectors import Segment
from doppio.core.ranking import best_of

# Rows of vectors that are compared at a time.
ROWS = 32_768
# All pictures are compared by the strongest points of the question's; so many that come near by all of them.
FIRST_POINTS, LOOKED_AT = 40, 512
# Pictures of a segment that are laid over the question's.
LAID = 128
# Beside the points: a picture that was made darker keeps its points, and one of another tower its colours.
OF_POINTS = 0.8
NOTHING = -2.0
_none = np.empty(0, np.int32)

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Part:
    """A segment: its pictures, the vectors of their words, and which number each of its chunks has, -1 where it is
    gone; empty where it is its place."""

    pictures: Pictures
    vectors: NDArray[np.float16]
    told: NDArray[np.int32]
    now: NDArray[np.int64]


class PictureIndex:
    """Segments that are searched as one.

    Notes
    -----
    By words a picture scores the best cosine with what is said of it, what is read on it, where it stands, what
    pictures that look like it are about, and what an encoder sees on it, each with a weight. By a picture it scores
    how alike the two are, and how well one can be laid over the other. A chunk scores as its best picture does.
    """

    def __init__(self, segments: Sequence[Part]) -> None:
        self._segments = list(segments)
        self._points = [
            ManyIndex([Held(Segment(part.pictures.spans, part.pictures.codes, part.pictures.scales, _none, _none))])
            for part in self._segments
        ]
        self._alive = [_alive(part) for part in self._segments]
        self._guess = fitted([(part.pictures, part.vectors, part.told) for part in self._segments])

    @property
    def count(self) -> int:
        """Pictures, as often as there are segments that have one."""
        return sum(int(alive.sum()) for alive in self._alive)

    @property
    def counts(self) -> tuple[int, int]:
        """Pictures of which something is said, and on which something can be read."""
        said = read = 0
        for part, alive in zip(self._segments, self._alive, strict=True):
            for sort in (SAID, READ):
                there = np.zeros(len(part.pictures), bool)
                there[part.told[part.told[:, 1] == sort, 0]] = True
                if sort == SAID:
                    said += int((there & alive).sum())
                else:
                    read += int((there & alive).sum())
        return said, read

    @property
    def points(self) -> int:
        return sum(len(part.pictures.codes) for part in self._segments)

    @property
    def guesses(self) -> int:
        """Pictures that the map from looks to words was fitted on; 0 where there are too few."""
        return self._guess.fitted_on if self._guess else 0

    def search(
        self, words: Floats | None, seen: Look | None, share: float, weights: Mapping[int, float], depth: int,
        allowed: NDArray[np.bool_] | None = None, sight: Floats | None = None,
    ) -> Ranking:  # fmt: skip
        """Rank chunks.

        Parameters
        ----------
        words : (d,) float32 or None
            The vector of the question's words.
        seen : Look or None
            The question's picture.
        sight : (d,) float32 or None
            The vector of the question's picture, where the encoder sees.
        share : float
            What the picture counts beside the words, 0 to 1, where there are both.
        weights : mapping of `SAID`, `READ`, `AROUND`, `GUESSED` and `SEEN` to numbers that are not negative
        allowed : (chunks,) bool array or None
        """
        parts = []
        for part, points, alive in zip(self._segments, self._points, self._alive, strict=True):
            if not alive.any():
                continue
            scores = np.zeros(len(part.pictures), np.float32)
            if words is not None:
                own = self._by_words(part, words, weights)
                scores += own if seen is None else (1 - share) * own
            if seen is not None:
                own = _by_looks(part, points, seen)
                if sight is not None and weights[SEEN]:
                    np.maximum(own, self._by_words(part, sight, {SEEN: weights[SEEN]}), out=own)
                scores += own if words is None else share * own
            parts.append(_of_chunks(part, scores, allowed))
        return best_of(parts, depth)

    def _by_words(self, part: Part, words: Floats, weights: Mapping[int, float]) -> Floats:
        best = np.full(len(part.pictures), NOTHING, np.float32)
        length = max(float(np.linalg.norm(words)), 1e-9)
        by_sort = np.array([weights.get(sort, 0.0) for sort in range(SEEN + 1)], np.float32)
        for first in range(0, len(part.vectors), ROWS):
            own = part.told[first : first + ROWS]
            cosines = part.vectors[first : first + ROWS].astype(np.float32) @ (words / length)
            weight = by_sort[own[:, 1]]
            np.maximum.at(best, own[weight > 0, 0], (cosines * weight)[weight > 0])
        if self._guess and weights.get(GUESSED):
            np.maximum(best, weights[GUESSED] * self._guess.cosines(part.pictures.wholes, words / length), out=best)
        return np.maximum(best, -1.0)


def _by_looks(part: Part, points: ManyIndex, seen: Look) -> Floats:
    """How alike pictures look: (m,) float32, at most 1. By points and wholes first; those that come near are laid
    over the question's, which the half of the score is for."""
    own = part.pictures
    alike = np.asarray(own.wholes @ seen.whole, np.float32)
    if len(seen.points):
        pointed = own.spans[:, 1] > 0
        found, cosines = points.search(_evenly(seen.points[:FIRST_POINTS]), len(own), None, pointed)
        alike[found] = (1 - OF_POINTS) * alike[found] + OF_POINTS * cosines
    near = np.lexsort((np.arange(len(own)), -alike))
    if len(seen.points) > FIRST_POINTS:
        wanted = np.zeros(len(own), bool)
        wanted[near[:LOOKED_AT]] = True
        found, cosines = points.search(_evenly(seen.points), LOOKED_AT, None, wanted & pointed)
        # Those that were not looked at stay below.
        alike[~wanted] -= 1
        alike[found] = (1 - OF_POINTS) * np.asarray(own.wholes[found] @ seen.whole) + OF_POINTS * cosines
        near = np.lexsort((np.arange(len(own)), -alike))
    scores = alike / 2
    for picture in near[:LAID].tolist():
        held = own.points(picture)
        others = own.codes[held].astype(np.float32) * own.scales[held, None]
        laid = laid_over(
            seen.points @ others.T, seen.places, own.places[held], seen.small, own.smalls[picture], seen.shape,
            (float(own.shapes[picture, 0]), float(own.shapes[picture, 1])),
        )  # fmt: skip
        scores[picture] += np.float32(laid / 2)
    return np.asarray(scores, np.float32)


def _evenly(points: Floats) -> Asked:
    return Asked(points, np.full(len(points), 1 / len(points), np.float32))


def _alive(part: Part) -> NDArray[np.bool_]:
    """Which pictures are carried by a chunk that is there."""
    found = np.zeros(len(part.pictures), bool)
    rows, pictures = part.pictures.carried.T
    there = part.now[rows] >= 0 if part.now.size else np.ones(len(rows), bool)
    found[pictures[there]] = True
    return found


def _of_chunks(part: Part, scores: Floats, allowed: NDArray[np.bool_] | None) -> Ranking:
    rows, pictures = part.pictures.carried.T
    chunks = part.now[rows] if part.now.size else rows
    there = chunks >= 0
    if allowed is not None:
        there &= named(allowed, chunks)
    chunks, own = chunks[there], scores[pictures[there]]
    once, place = np.unique(chunks, return_inverse=True)
    best = np.full(len(once), -np.inf, np.float32)
    np.maximum.at(best, place, own)
    return once, best
