"""How much does one term of a question add to the score of a chunk? The variants, chosen when a question is asked.

Every share is rounded to a multiple of 2^-32, so that the shares of a chunk add up to the same number in whatever
order they are added: exhaustive and pruned search, one segment and many, agree to the last bit.

References
----------
.. [1] S. Robertson, H. Zaragoza, "The Probabilistic Relevance Framework: BM25 and Beyond", Foundations and Trends
   in Information Retrieval 3(4), 2009. The inverse document frequency of "okapi" is theirs with 1 added inside the
   logarithm, so it is never negative.
.. [2] Y. Lv, C. Zhai, "Lower-Bounding Term Frequency Normalization", CIKM 2011: "plus".
.. [3] Y. Lv, C. Zhai, "When Documents Are Very Long, BM25 Fails!", SIGIR 2011: "long".
.. [4] C. Zhai, J. Lafferty, "A Study of Smoothing Methods for Language Models Applied to Information Retrieval",
   ACM Transactions on Information Systems 22(2), 2004: "dirichlet".
.. [5] G. Salton, C. Buckley, "Term-Weighting Approaches in Automatic Text Retrieval", Information Processing &
   Management 24(5), 1988: "tf-idf".
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

OKAPI, PLUS, LONG, DIRICHLET, TF_IDF = "okapi", "plus", "long", "dirichlet", "tf-idf"
VARIANTS = (OKAPI, PLUS, LONG, DIRICHLET, TF_IDF)
NUMBER = {variant: number for number, variant in enumerate(VARIANTS)}
# Adding and taking away 1.5 * 2^20 leaves a float64 below 2^19 rounded to 20 binary digits of the sum's 52.
GRID = 1.5 * 2.0**20
# How far a share in 32 bits may be above the same in 64, with room.
MORE = 1 + 2e-6
COMMON = 32
MEASURES = {
    OKAPI: "BM25 score, 0 upwards",
    PLUS: "BM25+ score, 0 upwards",
    LONG: "BM25L score, 0 upwards",
    DIRICHLET: "log likelihood of the question against the corpus",
    TF_IDF: "cosine of TF-IDF vectors, 0 to 1",
}


@dataclass(frozen=True)
class Weighting:
    """A variant and its settings.

    k1 : how slowly repeats of a term stop adding; 0 counts a term once
    b : how much long chunks are held back, from 0 (not) to 1 (fully)
    delta : the least that a term adds, however long the chunk ("plus" 1, "long" 0.5)
    mu : terms of the corpus mixed into every chunk ("dirichlet")
    """

    variant: str = OKAPI
    k1: float = 1.2
    b: float = 0.75
    delta: float = 1.0
    mu: float = 1000.0

    @property
    def number(self) -> int:
        return NUMBER[self.variant]

    def idf(self, chunks: int, with_term: int) -> float:
        """Inverse document frequency of a term, never negative; 0 for a term that no chunk holds.

        ln(1 + (N - n + 0.5) / (n + 0.5)) for "okapi", ln((N + 1) / n) for "plus", ln((N + 1) / (n + 0.5)) for
        "long", ln(1 + N / n) for "tf-idf"; "dirichlet" has none and gives 1.
        """
        if with_term == 0:
            return 0.0
        if self.variant == OKAPI:
            return float(np.log1p((chunks - with_term + 0.5) / (with_term + 0.5)))
        if self.variant == PLUS:
            return float(np.log((chunks + 1) / with_term))
        if self.variant == LONG:
            return float(np.log((chunks + 1) / (with_term + 0.5)))
        if self.variant == TF_IDF:
            return float(np.log1p(chunks / with_term))
        return 1.0

    def norms(self, mean: float) -> tuple[float, float]:
        """What the length of a chunk does, as a + c * length; `mean` is the mean length, at least 1."""
        if self.variant in (OKAPI, PLUS):
            return self.k1 * (1 - self.b), self.k1 * self.b / mean
        if self.variant == LONG:
            return 1 - self.b, self.b / mean
        return 1.0, 0.0


@njit(cache=True, nogil=True)
def on_grid(value):  # type: ignore[no-untyped-def]
    """The nearest multiple of 2^-32."""
    return (value + GRID) - GRID


@njit(cache=True, nogil=True)
def unit_of(variant, slope, count, norm, k1, delta):  # type: ignore[no-untyped-def]
    """What a term of weight 1 adds to a chunk that holds it `count` times.

    slope : only for "dirichlet", 1 / (mu * the term's share of the corpus)
    norm : what `Weighting.norms` makes of the chunk's length; for "tf-idf" 1 / the length of its vector
    """
    if variant == 0:
        return count * (k1 + 1.0) / (count + norm)
    if variant == 1:
        return delta + count * (k1 + 1.0) / (count + norm)
    if variant == 2:
        held = count / norm + delta
        return held * (k1 + 1.0) / (held + k1)
    if variant == 3:
        return np.log1p(count * slope)
    return (1.0 + np.log(count)) * norm


@njit(cache=True, nogil=True)
def share_of(variant, weight, slope, count, norm, k1, delta):  # type: ignore[no-untyped-def]
    """What a term adds: repeats in the question times idf, the weight, times `unit_of`; on the grid.

    Notes
    -----
    "okapi" and "plus" are worked out in 32 bits, twice as many at a time as in 64: a share is true to a few parts
    in ten million. The sum of shares is as exact as before.
    """
    if variant <= 1:
        held, factor = np.float32(count), np.float32(k1 + 1.0)
        unit = held * factor / (held + np.float32(norm))
        if variant == 1:
            unit += np.float32(delta)
        return on_grid(np.float64(np.float32(weight) * unit))
    return on_grid(weight * unit_of(variant, slope, count, np.float64(norm), k1, delta))


@njit(cache=True, nogil=True)
def shares_of(variant, weight, slope, counts, norms, size, k1, delta, table, shares):  # type: ignore[no-untyped-def]
    """`share_of` for the first `size` postings of a block, one plain loop a variant; equal to the last bit.

    table : what `logs_of` made for the term
    """
    if variant <= 1:
        narrow, factor = np.float32(weight), np.float32(k1 + 1.0)
        added = np.float32(delta) if variant == 1 else np.float32(0.0)
        for at in range(size):
            held = np.float32(counts[np.uint64(at)])
            unit = held * factor / (held + norms[np.uint64(at)]) + added
            shares[np.uint64(at)] = (np.float64(narrow * unit) + GRID) - GRID
    elif variant >= 3:
        for at in range(size):
            count = counts[at]
            if count < table.size:
                unit = table[count] if variant == 3 else table[count] * np.float64(norms[at])
                shares[at] = on_grid(weight * unit)
            else:
                shares[at] = share_of(variant, weight, slope, np.float64(count), norms[at], k1, delta)
    else:
        for at in range(size):
            shares[at] = share_of(variant, weight, slope, np.float64(counts[at]), norms[at], k1, delta)


@njit(cache=True, nogil=True)
def logs_of(variant, slope, table):  # type: ignore[no-untyped-def]
    """Logarithms of the counts that are common, for the variants that take one."""
    if variant >= 3:
        for count in range(1, table.size):
            table[count] = unit_of(variant, slope, np.float64(count), 1.0, 0.0, 0.0)


@njit(cache=True, nogil=True)
def block_units(first, final, peak_begins, peaks, variant, slope, base, rise, k1, delta):  # type: ignore[no-untyped-def]
    """The most that a term of weight 1 adds in each of the blocks [first, final), and a little more: shares are
    worked out in fewer digits than bounds."""
    most = np.zeros(final - first, np.float64)
    for block in range(first, final):
        for at in range(peak_begins[block], peak_begins[block + 1]):
            norm = base + rise * peaks[at, 1]
            most[block - first] = max(
                most[block - first], unit_of(variant, slope, np.float64(peaks[at, 0]), norm, k1, delta)
            )
    return most * MORE
