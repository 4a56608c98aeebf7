"""An encoder trained on the corpus itself: terms weighted by rarity, and the few directions that hold most of them.

It needs no weights and knows no word that the corpus does not use. Since it hangs on every chunk, it is trained
anew whenever one changes.

References
----------
.. [1] S. Deerwester and others, "Indexing by Latent Semantic Analysis", Journal of the American Society for
   Information Science 41(6), 1990.
"""

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from doppio.core.models.encoder import AskedTokens, Encoded
from doppio.core.models.registry import TRAINED, TRAINED_TITLE
from doppio.core.text.analysis import Analysis

KIND = "trained-encoder"
DIMENSION = 128
MOST_TERMS = 50_000
BATCH = 1024
_ANALYSIS = Analysis()


@dataclass(frozen=True)
class Counted:
    """The terms of some texts.

    names : of the terms, as they come
    texts : for each text the numbers of its terms among these, rising, and their counts
    """

    names: list[str]
    texts: list[tuple[NDArray[np.int64], NDArray[np.int64]]]


def counted(texts: Iterable[str]) -> Counted:
    """Count the terms of some texts."""
    numbering = _ANALYSIS.numbering()
    found = [np.unique(np.asarray(numbering(text), np.int64), return_counts=True) for text in texts]
    return Counted(list(numbering.vocabulary), found)


def train(parts: Iterable[Counted], dimension: int = DIMENSION) -> dict[str, NDArray[Any]]:
    """Train on the terms of all chunks, counted some at a time; returns the arrays of its artifact.

    Notes
    -----
    Term weights are (1 + ln tf) ln(1 + N / n). Terms that only one chunk holds tell nothing about likeness and are
    left out, as are the rarest beyond 50,000.
    """
    vocabulary: dict[str, int] = {}
    rows: list[tuple[NDArray[np.int64], NDArray[np.int64]]] = []
    for part in parts:
        # Names in the order in which they come in all texts, however these were parted.
        number = np.array([vocabulary.setdefault(name, len(vocabulary)) for name in part.names], np.int64)
        for own, counts in part.texts:
            mine = number[own]
            order = np.argsort(mine)
            rows.append((mine[order], counts[order]))
    held = np.zeros(len(vocabulary), np.int64)
    for numbers, _ in rows:
        held[numbers] += 1
    order = np.argsort(-held, kind="stable")[:MOST_TERMS]
    kept = np.sort(order[held[order] > 1])
    names = list(vocabulary)
    column = np.full(len(names), -1, np.int64)
    column[kept] = np.arange(len(kept))
    idf = np.log1p(len(rows) / np.maximum(held[kept], 1)) if len(kept) else np.zeros(0)
    matrix = _matrix(rows, column, idf)
    rank = min(dimension, min(matrix.shape) - 1)
    if rank < 1:
        directions: NDArray[Any] = np.zeros((len(kept), 1))
    else:
        directions = _strongest(matrix, rank)
        # The sign of a direction is arbitrary; the largest number of each is made positive.
        tops = np.abs(directions).argmax(axis=0)
        directions = directions * np.sign(directions[tops, np.arange(rank)])
    terms = json.dumps([names[number] for number in kept.tolist()], ensure_ascii=False).encode()
    return {
        "terms": np.frombuffer(terms, np.uint8),
        "idf": idf.astype(np.float32),
        "directions": np.ascontiguousarray(directions, np.float32),
    }


def _strongest(matrix: "scipy.sparse.csr_matrix", rank: int) -> NDArray[np.float64]:
    """The right singular vectors of the largest singular values, the largest first: (terms, rank).

    Notes
    -----
    They come from the eigenvectors of the smaller of the two products of the matrix with itself. Where the iteration
    starts, and starts again, is drawn with a fixed seed, so the same corpus gives the same vectors.
    """
    tall = matrix.shape[0] >= matrix.shape[1]
    one = matrix if tall else matrix.T.tocsr()
    size, other = one.shape[1], one.T.tocsr()
    product = scipy.sparse.linalg.LinearOperator(
        (size, size), matvec=lambda vector: other @ (one @ vector), dtype=np.float64
    )
    start = np.random.default_rng(0).standard_normal(size)
    _, found = scipy.sparse.linalg.eigsh(product, k=rank, v0=start, rng=np.random.default_rng(1))
    # Those of values that are nearly alike need not be at right angles.
    basis, _ = np.linalg.qr(found)
    left, _, right = np.linalg.svd(one @ basis, full_matrices=False)
    return np.asarray(basis @ right.T if tall else left, np.float64)


class TrainedEncoder:
    """Opened from the arrays of `train`; a text without a known term becomes a zero vector."""

    name, title, warning = TRAINED, TRAINED_TITLE, ""
    unit, gives_tokens, sight = True, False, None
    max_tokens = 1 << 30

    def __init__(self, arrays: Mapping[str, NDArray[Any]], digest: str) -> None:
        self.digest = digest
        self._column = {term: at for at, term in enumerate(json.loads(arrays["terms"].tobytes().decode()))}
        self._idf = np.asarray(arrays["idf"], np.float64)
        self._directions = arrays["directions"]
        self.dimension = int(self._directions.shape[1])

    def questions(self, texts: Sequence[str]) -> NDArray[np.float32]:
        rows = []
        for text in texts:
            found = (self._column.get(term.text, -1) for term in _ANALYSIS.terms(text))
            rows.append(np.unique(np.array([at for at in found if at >= 0], np.int64), return_counts=True))
        matrix = _matrix(rows, np.arange(len(self._idf)), self._idf)
        vectors = np.asarray(matrix @ self._directions, np.float32)
        lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
        return np.divide(vectors, lengths, out=np.zeros_like(vectors), where=lengths > 1e-9)

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        for first in range(0, len(texts), BATCH):
            batch = texts[first : first + BATCH]
            yield Encoded(np.arange(first, first + len(batch)), self.questions(batch), None, None)

    def asked_tokens(self, text: str) -> AskedTokens:
        return AskedTokens(np.empty((0, self.dimension), np.float32), [])


def _matrix(
    counted: Sequence[tuple[NDArray[np.int64], NDArray[np.int64]]],
    column: NDArray[np.int64],
    idf: NDArray[np.float64],
) -> "scipy.sparse.csr_matrix":
    """Weights of terms, one row a text."""
    rows, columns, values = [np.empty(0, np.int64)], [np.empty(0, np.int64)], [np.empty(0)]
    for row, (numbers, counts) in enumerate(counted):
        own = column[numbers]
        there = own >= 0
        rows.append(np.full(int(there.sum()), row))
        columns.append(own[there])
        values.append((1 + np.log(counts[there])) * idf[own[there]])
    shape = (len(counted), len(idf))
    return scipy.sparse.csr_matrix(
        (np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))), shape=shape
    )
