"""The texts of a segment's documents, written beside its chunks.

A piece that can be lacking: segments of before have none, and answer from what the texts were cut out of. Whatever is
built over a segment writes it, and reads the chunks' texts from it.
"""

from collections.abc import Iterator, Mapping, Sequence, Set

import numpy as np
from numpy.typing import NDArray

from doppio.core.errors import ArtifactDamaged
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.mapping import read_here_and_there
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.columns import Columns
from doppio.core.store.pieces import Arrays, Building, Costing, Estimate, Facts, Merging, Piece, Source
from doppio.core.store.segments import OpenedList
from doppio.core.text.written import EVERY, FORGOTTEN, TextsOfList, WrittenTexts, as_bytes, gathered

KIND, STEP = "texts", "write texts"
# Documents whose texts are had at a time, and more letters than any has.
AT_ONCE, LONGEST = 64, 1 << 40
# Bytes a token, and chunks a second where it never ran; both measured.
A_TOKEN, RATE = 4.2, 100_000.0


class TextsMaker:
    """See the module."""

    kinds: Mapping[str, str] = {KIND: STEP}
    wholes: Sequence[str] = ()
    order = 0

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        firsts = [_firsts(building.opened, place) for place, _ in lacking]
        building.progress.start(STEP, sum(int(chunks[-1]) for chunks in firsts), "chunks")
        for (place, piece), chunks in zip(lacking, firsts, strict=True):
            with building.store.scratch() as folder:
                texts = gathered(map(as_bytes, _whole(building, place, chunks)), chunks, Columns(folder))
                building.write(piece, place, texts.arrays())

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        old = [WrittenTexts.opened(source.artifact.arrays) for source in sources]
        firsts = [source.now[texts.chunks[:-1]] for source, texts in zip(sources, old, strict=True)]
        listed = TextsOfList(list(zip(old, firsts, strict=True)))
        merged = gathered(listed.parts(), np.append(listed.firsts, count), Columns(merging.scratch))
        return merged.arrays(), {}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        return Estimate(chunks / costing.rate(STEP, RATE), tokens * A_TOKEN, 0.0)


TEXTS = Piece(KIND, fingerprint(KIND, EVERY), {}, TextsMaker())


def _firsts(opened: OpenedList, place: int) -> NDArray[np.int64]:
    """The first row of each document of a segment that has chunks, and the number of its rows."""
    table = opened.segments[place].table
    return np.append(first_rows(table.document), len(table))


def first_rows(documents: NDArray[np.int64]) -> NDArray[np.int64]:
    """The first row of each document, from the document of each row."""
    return np.flatnonzero(np.diff(documents, prepend=-1))


def _whole(building: Building, place: int, chunks: NDArray[np.int64]) -> Iterator[str]:
    """The texts of a segment's documents, given the first chunk of each; of those that are gone nothing is left."""
    numbers = building.numbers(place)[chunks[:-1]]
    for low in range(0, len(numbers), AT_ONCE):
        some = numbers[low : low + AT_ONCE]
        alive = some[some >= 0].tolist()
        texts = iter(building.texts.between(alive, [0] * len(alive), [LONGEST] * len(alive)))
        yield from (next(texts) if number >= 0 else "" for number in some.tolist())
        building.progress.advance(int(chunks[low + len(some)] - chunks[low]))


def forget(store: ArtifactStore, key: str, digests: NDArray[np.uint8], alive: Set[str]) -> bool:
    """Write the texts of a segment anew without those of documents that are nowhere any more; whether there were any.

    Parameters
    ----------
    key : of the segment's texts
    digests : (d, 10) uint8, of its documents that have chunks
    alive : digests of all documents that there are
    """
    stays = [digest.tobytes().hex() in alive for digest in digests]
    artifact = None if all(stays) else store.open_or_none(KIND, key)
    if artifact is None:
        return False
    texts = WrittenTexts.opened(artifact.arrays)
    if all(there or not texts.holds(row) for row, there in enumerate(stays)):
        return False
    parts = (texts.part(row) if there else FORGOTTEN for row, there in enumerate(stays))
    with store.scratch() as folder:
        store.write(KIND, key, gathered(parts, texts.chunks, Columns(folder)).arrays(), artifact.meta)
    return True


def texts_of(store: ArtifactStore, opened: OpenedList) -> TextsOfList:
    """Where the texts of a list's chunks are written."""
    segments = []
    for place, part in enumerate(opened.reading.parts):
        firsts = _firsts(opened, place)[:-1]
        segments.append((_opened(store, TEXTS.key(part.key)), opened.numbers(place)[firsts]))
    return TextsOfList(segments)


def _opened(store: ArtifactStore, key: str) -> WrittenTexts | None:
    """Texts for somebody who can do without: what is damaged is left to the next build."""
    try:
        arrays = store.open(KIND, key, ahead=False).arrays
        read_here_and_there(arrays["data"], arrays["marks"])
        return WrittenTexts.opened(arrays)
    except (FileNotFoundError, ArtifactDamaged):
        return None
