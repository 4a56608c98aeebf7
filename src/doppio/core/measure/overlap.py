"""How alike two rankings of passages are, where each may have cut the documents in its own way.

References
----------
.. [1] W. Webber, A. Moffat, J. Zobel, "A Similarity Measure for Indefinite Rankings", ACM Transactions on Information
   Systems 28(4), 2010: rank-biased overlap, extrapolated to lists of unequal length (their equation 32).
"""

from collections.abc import Sequence

# Document, first character and the one after the last.
Place = tuple[int, int, int]
# How far down somebody looks: nine of ten go on to the next passage.
PERSISTENCE = 0.9
COVER = 0.5


def matched(first: Sequence[Place], second: Sequence[Place]) -> tuple[list[int], list[int]]:
    """Numbers for the passages of two lists: one of the second has that of the first which it stands for.

    Two passages are the same where they share at least half of the shorter; each is matched once, the best first.
    """
    numbers = list(range(len(first)))
    taken: set[int] = set()
    found = []
    for place, one in enumerate(second):
        shares = [(_shared(one, other), -at) for at, other in enumerate(first) if at not in taken]
        most, at = max(shares, default=(0.0, 0))
        if most >= COVER:
            taken.add(-at)
            found.append(-at)
        else:
            found.append(len(first) + place)
    return numbers, found


def overlap(first: Sequence[Place], second: Sequence[Place]) -> float:
    """Share of the passages of two lists that both have, 0 to 1: those in common over the length of the longer."""
    longer = max(len(first), len(second))
    if not longer:
        return 1.0
    own, other = matched(first, second)
    return len(set(own) & set(other)) / longer


def rank_biased_overlap(first: Sequence[Place], second: Sequence[Place], persistence: float = PERSISTENCE) -> float:
    """How alike two rankings are where the first places count most, 0 to 1 [1]_."""
    if not first and not second:
        return 1.0
    if not first or not second:
        return 0.0
    one, other = matched(first, second)
    short, long = sorted((one, other), key=len)
    s, last, p = len(short), len(long), persistence
    shared = [len(set(short[:depth]) & set(long[:depth])) for depth in range(last + 1)]
    total = sum(shared[depth] / depth * p**depth for depth in range(1, last + 1))
    total += sum(shared[s] * (depth - s) / (s * depth) * p**depth for depth in range(s + 1, last + 1))
    return (1 - p) / p * total + ((shared[last] - shared[s]) / last + shared[s] / s) * p**last


def _shared(one: Place, other: Place) -> float:
    """The share of the shorter of two passages that both hold, 0 to 1."""
    if one[0] != other[0]:
        return 0.0
    shorter = max(min(one[2] - one[1], other[2] - other[1]), 1)
    return max(min(one[2], other[2]) - max(one[1], other[1]), 0) / shorter
