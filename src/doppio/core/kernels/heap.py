"""A heap of the best entries so far, the worst of them at its root: compiled, for the inside of searches."""

from numba import njit


@njit(cache=True, nogil=True)
def _worse(scores, ids, a, b):  # type: ignore[no-untyped-def]
    """Whether entry a ranks behind entry b; equal scores are ordered by the smaller id."""
    return scores[a] < scores[b] or (scores[a] == scores[b] and ids[a] > ids[b])


@njit(cache=True, nogil=True)
def _sink(scores, ids, size):  # type: ignore[no-untyped-def]
    """Restore the heap below its root."""
    at = 0
    while True:
        worst, left = at, 2 * at + 1
        if left < size and _worse(scores, ids, left, worst):
            worst = left
        if left + 1 < size and _worse(scores, ids, left + 1, worst):
            worst = left + 1
        if worst == at:
            return
        scores[at], scores[worst] = scores[worst], scores[at]
        ids[at], ids[worst] = ids[worst], ids[at]
        at = worst


@njit(cache=True, nogil=True)
def offer(scores, ids, size, score, identity):  # type: ignore[no-untyped-def]
    """Offer an entry to a heap that keeps as many as its arrays are long; returns its size afterwards."""
    if size < scores.size:
        at = size
        scores[at], ids[at] = score, identity
        while at > 0:
            above = (at - 1) // 2
            if not _worse(scores, ids, at, above):
                break
            scores[at], scores[above] = scores[above], scores[at]
            ids[at], ids[above] = ids[above], ids[at]
            at = above
        return size + 1
    if size > 0 and (score > scores[0] or (score == scores[0] and identity < ids[0])):
        scores[0], ids[0] = score, identity
        _sink(scores, ids, size)
    return size
