"""Making one segment of several: what is left of each is copied to its place, and nothing is computed twice."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.build.keys import makers
from doppio.core.chunking.table import ChunkTable
from doppio.core.fingerprint import fingerprint
from doppio.core.progress import Progress
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.pieces import Facts, Merging, Source
from doppio.core.store.segments import (
    GONE,
    Lists,
    OpenedList,
    Part,
    ReadingList,
    chunk_table,
    number_chunks,
    segment_key,
)

SEGMENT = "segment"


def kinds_of_artifacts() -> list[str]:
    """Kinds of artifacts that there is one of for every segment, in the order in which they are made."""
    return [kind for maker in makers() for kind in maker.kinds]


def write_segment(store: ArtifactStore, key: str, family: str, table: ChunkTable, digests: NDArray[np.uint8]) -> None:
    """Write the chunks of some documents."""
    meta = {"chunks": len(table), "documents": len(digests), "family": family, "segment": key}
    store.write(SEGMENT, key, {**table.columns(), "digests": digests}, meta)


def merge_segments(
    store: ArtifactStore, lists: Lists, progress: Progress, opened: OpenedList, places: list[int]
) -> None:
    """Write one segment for those at some places of a list, with all indexes that they have, and then the list."""
    parts = [opened.reading.parts[place] for place in places]
    positions = np.sort(np.concatenate([part.documents[part.documents >= 0] for part in parts]))
    local = {int(position): row for row, position in enumerate(positions)}
    inner = [Part(part.key, np.array([local.get(int(p), GONE) for p in part.documents], np.int64)) for part in parts]
    segments = [opened.segments[place] for place in places]
    within = ReadingList(opened.reading.family, tuple(inner))
    numbering = number_chunks(within, segments)
    digests = np.zeros((len(positions), segments[0].digests.shape[1]), np.uint8)
    for part, segment in zip(inner, segments, strict=True):
        digests[part.documents[part.documents >= 0]] = segment.digests[part.documents >= 0]
    key = segment_key(opened.reading.family, [row.tobytes().hex() for row in digests])
    if not store.has(SEGMENT, key):
        write_segment(store, key, opened.reading.family, chunk_table(within, segments, numbering), digests)
    now = [
        rows if rows.size else np.arange(len(segment.table), dtype=np.int64)
        for rows, segment in zip(numbering.now, segments, strict=True)
    ]
    _carry_over(store, progress, [part.key for part in parts], now, key, numbering.count)
    kept = [part for place, part in enumerate(opened.reading.parts) if place not in places]
    whole = Part(key, positions)
    for name, reading in lists.youngest_first():
        if name == opened.key:
            lists.write(name, ReadingList(reading.family, (*kept, whole)))


def _carry_over(
    store: ArtifactStore, progress: Progress, segments: list[str], now: list[NDArray[np.int64]], key: str, count: int
) -> None:
    """Merge all indexes that every one of the segments has, whichever recipe they were built for."""
    for maker in makers():
        for kind in maker.kinds:
            for of, by_segment in _held(store, kind, segments).items():
                target = fingerprint(key, of)
                if len(by_segment) < len(segments) or store.has(kind, target):
                    continue
                opened = [store.open_or_none(kind, by_segment[segment][0]) for segment in segments]
                if any(artifact is None for artifact in opened):
                    continue
                sources = [Source(a, rows) for a, rows in zip(opened, now, strict=True) if a is not None]
                meta = by_segment[segments[0]][1] | {"segment": key, "chunks": count}
                progress.start(f"merge {kind}", 1, "indexes")
                with store.scratch() as folder:
                    made = maker.merge(kind, sources, count, meta, Merging(store, folder, progress))
                    if made is not None:
                        store.write(kind, target, made[0], meta | made[1])
                progress.advance(1)


def _held(store: ArtifactStore, kind: str, segments: list[str]) -> dict[str, dict[str, tuple[str, Facts]]]:
    """Artifacts of a kind over some segments, by what they are of and by segment."""
    found: dict[str, dict[str, tuple[str, Facts]]] = {}
    for artifact_key, meta in store.listed(kind):
        if meta.get("segment") in segments:
            found.setdefault(meta["of"], {})[meta["segment"]] = artifact_key, dict(meta)
    return found
