"""What is said of pictures, lent to pictures that look like them and of which nothing is said.

How a question scores on what is said is carried over by looks: ridge regression (Hoerl and Kennard, "Ridge
Regression: Biased Estimation for Nonorthogonal Problems", Technometrics 1970) from how pictures look to what those
score of which something is said. For terms whose scores add up it is as if each term of a caption were guessed, and
all guesses were added; for the idea see J. Jeon, V. Lavrenko, R. Manmatha, "Automatic Image Annotation and Retrieval
using Cross-Media Relevance Models", SIGIR 2003.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.picture.guess import LEAST, MOST
from doppio.core.branches.picture.making import Pictures
from doppio.core.kernels.rows import rows_of
from doppio.core.models.looks import LOOK

RIDGE = 0.1

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]


@dataclass(frozen=True)
class Lending:
    """A fitted map.

    lenders : (n, 2) int64, chunks and the pictures that they carry of which something is said, by chunk
    looks : (m, LOOK) float64, how these pictures look, less the mean
    inner : (LOOK, LOOK) float64, the inverse of their products with the penalty
    pull : (m,) float64, how far what a picture scores pulls its own guess, below 1
    borrowers : (k, 2) int64, chunks and the pictures that they carry of which nothing is said, by chunk
    unsaid : (l, LOOK) float32, how those look, less the same mean
    """

    lenders: Numbers
    looks: Floats
    inner: Floats
    pull: Floats
    borrowers: Numbers
    unsaid: NDArray[np.float32]

    def lent(
        self, chunks: Numbers, scores: Floats, allowed: NDArray[np.bool_] | None = None
    ) -> tuple[Numbers, Floats]:
        """What chunks are lent for a question: their numbers, rising, and what each gets, above 0.

        Parameters
        ----------
        chunks, scores : (n,) int64 and (n,) float64
            All that score for the question, in any order; the others have 0.
        allowed : (chunks,) bool array or None

        Notes
        -----
        It is lent as far as looks tell: times the correlation of what pictures score with what is guessed for each
        from all others, so a question that has nothing to do with looks lends nothing.
        """
        order = np.argsort(chunks, kind="stable")
        held = np.zeros(len(self.looks))
        there, rows = rows_of(chunks[order], len(chunks), self.lenders[:, 0])
        np.maximum.at(held, self.lenders[there, 1], scores[order][rows])
        mean = held.mean()
        above = held - mean
        turn = self.inner @ (above @ self.looks)
        # Each guessed from the others, without fitting anew: the errors of the fit are too small by the own pull.
        missed = (above - self.looks @ turn) / (1 - self.pull)
        told = max(0.0, 1 - float(missed @ missed) / max(float(above @ above), 1e-12)) ** 0.5
        guessed = told * (mean + (self.unsaid @ turn.astype(np.float32)).astype(np.float64))
        owners, pictures = self.borrowers.T
        if allowed is not None:
            owners, pictures = owners[allowed[owners]], pictures[allowed[owners]]
        once, place = np.unique(owners, return_inverse=True)
        best = np.zeros(len(once))
        np.maximum.at(best, place, guessed[pictures])
        return once[best > 0], best[best > 0]


def fitted(segments: Sequence[tuple[Pictures, Numbers]], ridge: float = RIDGE) -> Lending | None:
    """Fit the map on the pictures of some segments, each with the numbers of its chunks as `Part.now` has them; None
    where of too few pictures something is said, or of all.

    It hangs on which pictures there are and not on how they lie in segments: they are taken by their digests.
    """
    carried: list[tuple[int, bytes]] = []
    looks: dict[bytes, NDArray[np.float32]] = {}
    said: set[bytes] = set()
    for pictures, now in segments:
        names = [row.tobytes() for row in pictures.digests]
        for row, picture in pictures.carried.tolist():
            chunk, name = int(now[row]) if now.size else row, names[picture]
            if chunk < 0 or not pictures.wholes[picture].any():
                continue
            carried.append((chunk, name))
            if name not in looks:
                looks[name] = pictures.wholes[picture]
                if pictures.said(picture):
                    said.add(name)
    known, unknown = sorted(said)[:MOST], sorted(looks.keys() - said)
    if len(known) < LEAST or not unknown:
        return None
    seen = np.array([looks[name] for name in known], np.float64)
    centre = seen.mean(axis=0)
    seen -= centre
    inner = np.asarray(np.linalg.inv(seen.T @ seen + ridge * np.eye(LOOK)), np.float64)
    # The mean is one more number that each pulls at.
    pull = np.minimum(np.einsum("ij,ij->i", seen @ inner, seen) + 1 / len(seen), 1 - 1e-9)
    unsaid = (np.array([looks[name] for name in unknown], np.float64) - centre).astype(np.float32)
    return Lending(_pairs(carried, known), seen, inner, pull, _pairs(carried, unknown), unsaid)


def _pairs(carried: Sequence[tuple[int, bytes]], names: Sequence[bytes]) -> Numbers:
    places = {name: place for place, name in enumerate(names)}
    found = sorted({(chunk, places[name]) for chunk, name in carried if name in places})
    return np.array(found, np.int64).reshape(-1, 2)
