"""Topic shift: cut where neighbouring sentences drift apart, in their words or in their meaning."""

from collections.abc import Sequence

import numpy as np
import scipy
from numba import njit
from numpy.typing import NDArray

from doppio.core.chunking.kind import OVERLAP_IN_SENTENCES, SENTENCES, Rule
from doppio.core.chunking.sentence_groups import sentence_units
from doppio.core.kinds import Setting, Settings, choice, number, whole
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import Document
from doppio.core.text.units import Offsets, SentenceVectors, Units

TERMS, VECTORS = "terms", "vectors"
_ANALYSIS = Analysis()


def topic_shift(
    document: Document,
    units: Units,
    size: int,
    overlap: int,
    *,
    window: int,
    sensitivity: float,
    minimum: int,
    encoder: SentenceVectors | None = None,
) -> tuple[Offsets, Offsets]:
    """Cut a text where its topic shifts.

    Parameters
    ----------
    document : Document
    units : Units
        What `size` and `minimum` count, over `document.text`.
    size, minimum : int
        The most units a chunk may have, and how many it must have before a shift may end it.
    overlap : int
        The most sentences that a chunk repeats from the one before.
    window : int
        Sentences on either side of a gap that are compared.
    sensitivity : float
        A gap is a shift where its depth is above the mean depth less this many standard deviations: more cuts
        as it rises.
    encoder : SentenceVectors or None
        Compares sentences by their vectors; None compares them by their terms.

    Returns
    -------
    starts, ends : (n,) int64 arrays

    Notes
    -----
    Between shifts that are further apart than `size` the chunk ends at the deepest gap in the second half of what
    fits. Terms are stems without stop words.

    References
    ----------
    .. [1] M. Hearst, "TextTiling: Segmenting Text into Multi-paragraph Subtopic Passages", Computational
       Linguistics 23(1), 1997. There a window counts words; here it counts sentences.
    """
    first, last = sentence_units(document, units, size)
    if not len(first):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    texts = [document.text[a:b] for a, b in zip(units.starts[first].tolist(), units.ends[last - 1].tolist(),
                                                strict=True)]  # fmt: skip
    depth = depth_scores(similarities(texts, window, encoder))
    threshold = depth.mean() - sensitivity * depth.std() if len(depth) else 0.0
    shift = (depth > threshold) & (depth > 0)
    begins, finishes = _between_shifts(first, last, shift, depth, size, overlap, minimum)
    return units.starts[first[begins]], units.ends[last[finishes - 1] - 1]


def similarities(texts: Sequence[str], window: int, encoder: SentenceVectors | None) -> NDArray[np.float64]:
    """Cosine between the `window` sentences before each gap and the `window` after it: (n - 1,) float64."""
    count = len(texts)
    if count < 2:
        return np.zeros(0)
    gaps = np.arange(1, count)
    low, high = np.maximum(gaps - window, 0), np.minimum(gaps + window, count)
    if encoder is not None:
        vectors = encoder.vectors(texts).astype(np.float64)
        sums = np.concatenate([np.zeros((1, vectors.shape[1])), np.cumsum(vectors, axis=0)])
        left, right = sums[gaps] - sums[low], sums[high] - sums[gaps]
        dots = (left * right).sum(axis=1)
        norms = np.linalg.norm(left, axis=1) * np.linalg.norm(right, axis=1)
    else:
        matrix = _term_counts(texts)
        left = _windows(low, gaps, count) @ matrix
        right = _windows(gaps, high, count) @ matrix
        dots = np.asarray(left.multiply(right).sum(axis=1)).ravel()
        norms = np.sqrt(
            np.asarray(left.multiply(left).sum(axis=1)).ravel()
            * np.asarray(right.multiply(right).sum(axis=1)).ravel()
        )
    return np.asarray(np.divide(dots, norms, out=np.zeros(len(gaps)), where=norms > 0))


def depth_scores(similarity: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far the similarity falls into each gap, from the nearest peak on either side: (n,) float64."""
    return np.asarray(_depths(np.ascontiguousarray(similarity, np.float64)))


def _term_counts(texts: Sequence[str]) -> "scipy.sparse.csr_matrix":
    numbers: dict[str, int] = {}
    rows, columns = [], []
    for row, text in enumerate(texts):
        for term in _ANALYSIS.terms(text):
            rows.append(row)
            columns.append(numbers.setdefault(term.text, len(numbers)))
    return scipy.sparse.csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(len(texts), max(len(numbers), 1)))


def _windows(low: NDArray[np.int64], high: NDArray[np.int64], count: int) -> "scipy.sparse.csr_matrix":
    lengths = high - low
    rows = np.repeat(np.arange(len(low)), lengths)
    columns = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths) + np.repeat(low, lengths)
    return scipy.sparse.csr_matrix((np.ones(len(rows)), (rows, columns)), shape=(len(low), count))


@njit(cache=True, nogil=True)
def _depths(similarity: NDArray[np.float64]) -> NDArray[np.float64]:
    depth = np.zeros(similarity.size)
    for gap in range(similarity.size):
        left = right = similarity[gap]
        for at in range(gap - 1, -1, -1):
            if similarity[at] < left:
                break
            left = similarity[at]
        for at in range(gap + 1, similarity.size):
            if similarity[at] < right:
                break
            right = similarity[at]
        depth[gap] = (left - similarity[gap]) + (right - similarity[gap])
    return depth


@njit(cache=True, nogil=True)
def _between_shifts(
    first: NDArray, last: NDArray, shift: NDArray, depth: NDArray, size: int, overlap: int, minimum: int
) -> tuple[NDArray, NDArray]:
    """Chunks from shift to shift: number of the first sentence of each and of the one after its last. The gap
    before sentence s is s - 1."""
    count = first.size
    begins = np.empty(count, np.int64)
    finishes = np.empty(count, np.int64)
    found = 0
    start = 0
    end = 0
    while end < count:
        while start < end and last[end] - first[start] > size:
            start += 1
        fresh = end
        end += 1
        cut = False
        while end < count and last[end] - first[start] <= size:
            if shift[end - 1] and last[end - 1] - first[start] >= minimum:
                cut = True
                break
            end += 1
        if not cut and end < count:
            best = end
            for at in range(end, fresh, -1):
                if 2 * (last[at - 1] - first[start]) < size or last[at - 1] - first[start] < minimum:
                    break
                if depth[at - 1] > depth[best - 1]:
                    best = at
            end = best
        begins[found], finishes[found] = start, end
        found += 1
        start = end if cut else max(end - overlap, start + 1)
    return begins[:found].copy(), finishes[:found].copy()


class TopicShift(Rule):
    """See `topic_shift`."""

    name, title, order = "topic-shift", "topic shift", 5
    summary = "by {signal}"
    overlap_in = SENTENCES
    settings: tuple[Setting, ...] = (
        OVERLAP_IN_SENTENCES,
        choice("signal", "Compared by", {TERMS: "terms", VECTORS: "sentence vectors"}, TERMS, built=True),
        whole("window", "Sentences a side", 1, 50, 3, built=True),
        number("sensitivity", "Sensitivity", -5, 5, 0.5, built=True, help="more cuts as it rises"),
    )

    def cut(
        self, document: Document, units: Units, settings: Settings, encoder: SentenceVectors | None
    ) -> tuple[Offsets, Offsets]:
        return topic_shift(
            document,
            units,
            settings["size"],
            settings["overlap"],
            window=settings["window"],
            sensitivity=settings["sensitivity"],
            minimum=settings["minimum"],
            encoder=encoder if self.reads_vectors(settings) else None,
        )

    def reads_vectors(self, settings: Settings) -> bool:
        return bool(settings["signal"] == VECTORS)


KIND = TopicShift()
