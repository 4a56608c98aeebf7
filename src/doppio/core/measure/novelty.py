"""Gain that grows less with what has been read already, and the best order there could be.

References
----------
.. [1] C. Clarke, M. Kolla, G. Cormack and others, "Novelty and diversity in information retrieval evaluation",
   SIGIR 2008.
"""

from collections import Counter
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.measure.judged import Judged, hosts

Gains = NDArray[np.float64]


def discounted(judged: Judged, k: int, alpha: float) -> float:
    """Discounted cumulated gain of the first `k`, over that of the best order; from 0 to 1.

    Parameters
    ----------
    alpha : float
        How much of an answer's worth each chunk takes that meets it: with 1 the first takes all of it.

    Notes
    -----
    A chunk's gain is the sum of what is left of the grades of the answers that it meets, discounted by
    log2(rank + 1). A document that is the answer as a whole is worth something once. The best order is found
    greedily, since the true one is out of reach (it is set cover); where it is beaten the quotient is held to 1.
    """
    ideal = best(judged, k, alpha)
    discounts = 1 / np.log2(np.arange(2, k + 2))
    reached = float((ideal * discounts[: len(ideal)]).sum())
    if not reached:
        return 0.0
    own = gains(judged.matrix[:, :k], judged.relevance.grades, left(judged, alpha))
    return min(float((own * discounts[: len(own)]).sum()) / reached, 1.0)


def left(judged: Judged, alpha: float) -> Gains:
    """(answers,): what part of an answer's worth is left by each chunk that meets it."""
    return np.where(judged.once, 0.0, 1.0 - alpha)


def gains(matrix: NDArray[np.bool_], grades: Gains, rest: Gains) -> Gains:
    """Gain of each place of a ranking.

    Parameters
    ----------
    matrix : (answers, n) bool
        Which place meets which answer.
    grades, rest : (answers,)
    """
    before: NDArray[np.int64] = np.cumsum(matrix, axis=1) - matrix
    return np.asarray((matrix * grades[:, None] * rest[:, None] ** before).sum(axis=0))


def best(judged: Judged, k: int, alpha: float) -> Gains:
    """Gains of the greedy best order of the chunks there are, at most `k` of them.

    Notes
    -----
    An answer that no chunk meets, because it was cut apart, is there as a chunk of its own: what a chunking lost is
    not forgiven.
    """
    relevance = judged.relevance
    if (alpha, k) not in relevance.ideals:
        relevance.ideals[alpha, k] = _greedy(*_patterns(judged), relevance.grades, left(judged, alpha), k)
    return relevance.ideals[alpha, k]


def _patterns(judged: Judged) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """(answers, p) which answers are met together by some host, and (p,) by how many hosts."""
    relevance = judged.relevance
    met: dict[Any, list[int]] = {}
    for answer, (chunks, once) in enumerate(zip(relevance.chunks, judged.once.tolist(), strict=True)):
        # Of a document that is the answer as a whole one chunk is as good as another, and one is enough.
        for host in dict.fromkeys(hosts(chunks[:1] if once else chunks, judged.table, judged.handed)):
            met.setdefault(host, []).append(answer)
        if not len(chunks):
            met["cut apart", answer] = [answer]
    counts = Counter(map(tuple, met.values()))
    patterns = np.zeros((len(relevance.chunks), len(counts)), bool)
    for column, answers in enumerate(counts):
        patterns[list(answers), column] = True
    return patterns, np.array(list(counts.values()), np.int64)


def _greedy(patterns: NDArray[np.bool_], counts: NDArray[np.int64], grades: Gains, rest: Gains, k: int) -> Gains:
    worth = grades.copy()
    counts = counts.copy()
    found: list[float] = []
    while len(found) < k and counts.any():
        offered = np.where(counts > 0, worth @ patterns, -1.0)
        choice = int(offered.argmax())
        if offered[choice] <= 0:
            break
        found.append(float(offered[choice]))
        counts[choice] -= 1
        worth = np.where(patterns[:, choice], worth * rest, worth)
    return np.array(found)
