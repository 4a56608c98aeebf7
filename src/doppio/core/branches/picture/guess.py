"""What a picture is probably about, from how it looks: a map that is fitted on the corpus's own pictures.

It knows what pictures of this corpus look like, and no more: where none of them that looks alike has words, it says
nothing of worth. Ridge regression from looks to vectors of words (Hoerl and Kennard, "Ridge Regression: Biased
Estimation for Nonorthogonal Problems", Technometrics 1970).
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.picture.making import AROUND, READ, SAID, Pictures
from doppio.core.models.looks import LOOK

# With fewer pictures there is nothing to learn; more than so many teach nothing new.
LEAST, MOST = 24, 20_000
RIDGE = 3.0
ROWS = 4096

Floats = NDArray[np.float32]
# Pictures, vectors of their words, and of which picture and sort each is.
Told = tuple[Pictures, NDArray[np.float16], NDArray[np.int32]]


@dataclass(frozen=True)
class Guess:
    """A fitted map.

    centre, middle : the mean look, (LOOK,), and the mean vector of words, (d,)
    turn : (LOOK, d) float32
    """

    centre: Floats
    middle: Floats
    turn: Floats
    fitted_on: int

    def vectors(self, wholes: Floats) -> Floats:
        """Unit vectors of words that pictures are guessed to be about, less what all of them are: (m, d) float32."""
        found = (wholes - self.centre) @ self.turn
        return found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-9)

    def cosines(self, wholes: Floats, words: Floats) -> Floats:
        """Of words, a unit vector, with each guess: (m,) float32."""
        asked = words - self.middle
        asked = asked / max(float(np.linalg.norm(asked)), 1e-9)
        parts = [self.vectors(wholes[first : first + ROWS]) @ asked for first in range(0, len(wholes), ROWS)]
        return np.concatenate([np.empty(0, np.float32), *parts]).astype(np.float32)


def fitted(segments: Sequence[Told], ridge: float = RIDGE) -> Guess | None:
    """Fit the map on the pictures that have words: those that are said of them where there are, else those that can
    be read, else those around; None where they are too few."""
    looks, words = [np.empty((0, LOOK), np.float32)], []
    for pictures, vectors, told in segments:
        targets, there = _targets(len(pictures), vectors, told)
        there &= pictures.wholes.any(axis=1)
        looks.append(np.asarray(pictures.wholes[there]))
        words.append(targets[there])
    seen = np.concatenate(looks)[:MOST]
    if len(seen) < LEAST:
        return None
    meant = np.concatenate(words)[:MOST]
    meant /= np.maximum(np.linalg.norm(meant, axis=1, keepdims=True), 1e-9)
    centre, middle = seen.mean(axis=0), meant.mean(axis=0)
    one, other = (seen - centre).astype(np.float64), (meant - middle).astype(np.float64)
    turn = np.linalg.solve(one.T @ one + ridge * np.eye(LOOK), one.T @ other)
    return Guess(centre, middle, turn.astype(np.float32), len(seen))


def _targets(count: int, vectors: NDArray[np.float16], told: NDArray[np.int32]) -> tuple[Floats, NDArray[np.bool_]]:
    """What each picture of a segment is about, (m, d) float32, and for which of them that is known."""
    targets = np.zeros((count, vectors.shape[1]), np.float32)
    lacking = np.ones(count, bool)
    for sort in (SAID, READ, AROUND):
        rows = np.flatnonzero((told[:, 1] == sort) & lacking[told[:, 0]])
        np.add.at(targets, told[rows, 0], vectors[rows].astype(np.float32))
        lacking[told[rows, 0]] = False
    return targets, ~lacking
