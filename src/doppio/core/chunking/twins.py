"""Which texts are nearly identical? Min-wise hashes find candidates, and the exact overlap makes sure."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from doppio.core.text.units import folded_words

SHINGLE = 3
# Of so few texts all pairs are compared at once.
FEW = 256
# Passages come again with every question.
TEXTS_KEPT = 8192
BANDS, ROWS = 16, 4
_PRIME = np.uint64((1 << 61) - 1)


@dataclass(frozen=True)
class Twins:
    """Two texts and the share of their word triples that they have in common, 0 to 1."""

    one: int
    other: int
    alike: float


def near_identical(texts: Sequence[str], *, least: float = 0.8, seed: int = 7) -> list[Twins]:
    """Find pairs of texts that share at least `least` of their word triples (Jaccard), most alike first.

    Notes
    -----
    Case does not count, nor does what stands between words. Candidates are found with 64 min-wise hashes in 16
    bands; a pair as alike as 0.8 is missed less than once in three thousand. What is returned is exact. Texts of
    fewer than three words are compared whole.

    References
    ----------
    .. [1] A. Broder, "On the resemblance and containment of documents", Compression and Complexity of Sequences,
       1997.
    """
    sets = [_shingles(text) for text in texts]
    filled = [row for row, held in enumerate(sets) if len(held)]
    if len(filled) < 2:
        return []
    if len(filled) <= FEW:
        return _among_few(sets, filled, least)
    random = np.random.default_rng(seed)
    factors = random.integers(1, 1 << 31, BANDS * ROWS, dtype=np.uint64)
    shifts = random.integers(0, 1 << 31, BANDS * ROWS, dtype=np.uint64)
    lengths = [len(sets[row]) for row in filled]
    begins = np.concatenate([[0], np.cumsum(lengths)[:-1]])
    everything = np.concatenate([sets[row] for row in filled])
    smallest = np.stack(
        [
            np.minimum.reduceat((everything * factor + shift) % _PRIME, begins)
            for factor, shift in zip(factors, shifts, strict=True)
        ]
    )
    pairs: set[tuple[int, int]] = set()
    for band in range(BANDS):
        keys = np.ascontiguousarray(smallest[band * ROWS : (band + 1) * ROWS].T)
        _, group = np.unique(keys, axis=0, return_inverse=True)
        order = np.argsort(group.ravel(), kind="stable")
        edges = np.flatnonzero(np.diff(group.ravel()[order])) + 1
        for members in np.split(order, edges):
            # Of very many equal texts each is compared with the first only: a list wants them, not their square.
            first = filled[members[0]]
            pairs.update((first, filled[member]) for member in members[1:].tolist())
            if len(members) <= 30:
                rows = [filled[member] for member in members.tolist()]
                pairs.update((a, b) for place, a in enumerate(rows) for b in rows[place + 1 :])
    found = [Twins(one, other, _jaccard(sets[one], sets[other])) for one, other in pairs]
    return sorted((twins for twins in found if twins.alike >= least), key=lambda t: (-t.alike, t.one, t.other))


def _among_few(sets: Sequence[NDArray[np.uint64]], filled: Sequence[int], least: float) -> list[Twins]:
    """The same where every pair is compared."""
    _, columns = np.unique(np.concatenate([sets[row] for row in filled]), return_inverse=True)
    lengths = np.array([len(sets[row]) for row in filled])
    held = np.zeros((len(filled), int(columns.max()) + 1), np.float32)
    held[np.repeat(np.arange(len(filled)), lengths), columns.ravel()] = 1
    shared = (held @ held.T).astype(np.float64)
    alike = shared / (lengths[:, None] + lengths[None, :] - shared)
    pairs = zip(*np.triu(alike >= least, 1).nonzero(), strict=True)
    found = [Twins(filled[one], filled[other], float(alike[one, other])) for one, other in pairs]
    return sorted(found, key=lambda twins: (-twins.alike, twins.one, twins.other))


@lru_cache(maxsize=TEXTS_KEPT)
def _shingles(text: str) -> NDArray[np.uint64]:
    terms = folded_words(text)
    hashes = np.array([crc32(term.encode()) for term in terms if term], np.uint64)
    if len(hashes) < SHINGLE:
        return np.array([crc32(" ".join(terms).encode())], np.uint64) if len(hashes) else hashes
    joined = hashes[:-2] * np.uint64(0x9E3779B1) + hashes[1:-1] * np.uint64(0x85EBCA77) + hashes[2:]
    return np.unique(joined % np.uint64(1 << 31))


def _jaccard(one: NDArray[np.uint64], other: NDArray[np.uint64]) -> float:
    common = len(np.intersect1d(one, other, assume_unique=True))
    return common / (len(one) + len(other) - common)
