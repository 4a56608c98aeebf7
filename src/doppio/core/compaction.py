"""Making one segment of several: what is left of each is copied to its place, and nothing is computed twice."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact, ArtifactStore
from doppio.core.dense.index import VECTORS
from doppio.core.dense.metric import prepared
from doppio.core.dense.structure import KIND as STRUCTURE
from doppio.core.dense.structure import build_structure, grown, open_structure
from doppio.core.encoding import mapped
from doppio.core.models import token_vectors
from doppio.core.progress import Progress
from doppio.core.rows import ranges
from doppio.core.sparse.merging import merge_postings
from doppio.core.sparse.postings import KIND as POSTINGS
from doppio.core.sparse.postings import Postings

# A structure is made from its vectors, so they come first.
KINDS = (POSTINGS, VECTORS, token_vectors.KIND, STRUCTURE)
ROWS = 1 << 13


@dataclass(frozen=True)
class Source:
    """An artifact over one of the segments that are merged.

    now : (n,) int64, which row of the new segment each of its rows becomes; -1 where it is dropped
    """

    artifact: Artifact
    now: NDArray[np.int64]


def merge(
    store: ArtifactStore, kind: str, key: str, sources: Sequence[Source], count: int, meta: dict[str, Any],
    progress: Progress,
) -> None:  # fmt: skip
    """Write an artifact over a new segment of `count` chunks from those over the segments that it was made of."""
    if kind == POSTINGS:
        parts = [(Postings.opened(source.artifact.arrays), source.now) for source in sources]
        postings = merge_postings(parts, count)
        store.write(
            kind, key, postings.arrays(), meta | {"terms": postings.terms, "entries": int(postings.held.sum())}
        )
    elif kind == VECTORS:
        _merge_vectors(store, key, sources, count, meta)
    elif kind == token_vectors.KIND:
        store.write(kind, key, _merged_tokens(sources, count), meta)
    else:
        _merge_structure(store, key, sources, meta, progress)


def _merge_vectors(
    store: ArtifactStore, key: str, sources: Sequence[Source], count: int, meta: dict[str, Any]
) -> None:
    dimension = sources[0].artifact.arrays["vectors"].shape[1]
    draft = store.root / f".merging-{key}.npy"
    squares = np.zeros(count, np.float32)
    try:
        rows = mapped(draft, "w+", np.float32, (max(count, 1), dimension))
        for source in sources:
            old, old_squares = source.artifact.arrays["vectors"], source.artifact.arrays["squares"]
            there = np.flatnonzero(source.now >= 0)
            for first in range(0, len(there), ROWS):
                part = there[first : first + ROWS]
                rows[source.now[part]] = old[part]
                squares[source.now[part]] = old_squares[part]
        rows.flush()
        del rows
        array: Any = draft if count else np.empty((0, dimension), np.float32)
        store.write(VECTORS, key, {"vectors": array, "squares": squares}, meta | {"dimension": dimension})
    finally:
        draft.unlink(missing_ok=True)


def _merged_tokens(sources: Sequence[Source], count: int) -> dict[str, NDArray[Any]]:
    spans = np.zeros((count, 2), np.int64)
    names = ("codes", "scales", "ids")
    pieces: dict[str, list[NDArray[Any]]] = {name: [] for name in names}
    at = 0
    for source in sources:
        arrays = source.artifact.arrays
        there = np.flatnonzero(source.now >= 0)
        begins, lengths = arrays["spans"][there].T
        places = ranges(begins, lengths)
        for name in names:
            pieces[name].append(arrays[name][places])
        spans[source.now[there], 0] = at + np.cumsum(lengths) - lengths
        spans[source.now[there], 1] = lengths
        at += int(lengths.sum())
    joined = {name: np.concatenate(parts) for name, parts in pieces.items()}
    vocabulary = len(sources[0].artifact.arrays["frequency"])
    return {"spans": spans, **joined, "frequency": token_vectors.frequencies(spans, joined["ids"], vocabulary)}


def _merge_structure(
    store: ArtifactStore, key: str, sources: Sequence[Source], meta: dict[str, Any], progress: Progress
) -> None:
    opened = store.open(VECTORS, meta["vectors"])
    vectors = prepared(opened.arrays["vectors"], opened.arrays["squares"], meta["metric"])
    largest = max(sources, key=lambda source: int((source.now >= 0).sum()))
    before = open_structure(meta["settings"]["kind"], largest.artifact.arrays)
    arrays = grown(before, largest.now, vectors, progress)
    store.write(STRUCTURE, key, arrays or build_structure(vectors, meta["settings"], progress), meta)
