"""A question as branches search by it, and how one is asked that knows texts alone."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.fusion.pouring import Ranking

Allowed = NDArray[np.bool_] | None


@dataclass(frozen=True)
class Query:
    """One wording of a question.

    words : what branches of terms search by, with weights; None where it is the words of the text
    without : terms that are not to be added, neither to the question nor to chunks, by branches that add some
    picture : a picture that is asked by, PNG or JPEG; None where there is none
    share : what it counts beside the text, 0 to 1
    """

    text: str
    words: Mapping[str, float] | None = None
    without: frozenset[str] = frozenset()
    picture: bytes | None = None
    share: float = 0.5

    @property
    def wordless(self) -> bool:
        """Whether there is only a picture to search by."""
        return self.picture is not None and not self.text.strip()


def search(
    branch: Any, queries: Sequence[Query], vectors: NDArray[np.float32] | None, depth: int, allowed: Allowed
) -> list[Ranking]:
    """Ask a branch.

    Parameters
    ----------
    allowed : (chunks,) bool array or None
        The chunks that may be found; None where all may.

    Notes
    -----
    A branch that knows nothing of weighed words or of conditions is asked by the text alone, as deep as it takes
    until enough of what it finds is allowed. One that sees no pictures finds nothing by a picture alone.
    """
    if not getattr(branch, "sees", False) and any(query.wordless for query in queries):
        return [(np.empty(0, np.int64), np.empty(0, np.float32)) for _ in queries]
    if hasattr(branch, "search_asked"):
        found: list[Ranking] = branch.search_asked(queries, vectors, depth, allowed)
        return found
    texts = [query.text for query in queries]
    if allowed is None:
        return list(branch.search_many(texts, vectors, depth))
    rows: list[Ranking] = []
    for place, text in enumerate(texts):
        own = None if vectors is None else vectors[place : place + 1]
        deep = depth
        while True:
            [(chunks, scores)] = branch.search_many([text], own, deep)
            kept = allowed[chunks]
            if kept.sum() >= depth or len(chunks) < deep or deep >= len(allowed):
                rows.append((chunks[kept][:depth], scores[kept][:depth]))
                break
            deep = min(4 * deep, len(allowed))
    return rows
