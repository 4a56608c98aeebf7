"""All chunks of a corpus as columns; a chunk's id is its row."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.fixed_window import fixed_window
from doppio.core.chunking.natural_breaks import natural_breaks
from doppio.core.chunking.units import Offsets, TokenOffsets, Units, characters, words
from doppio.core.progress import Progress, Silent
from doppio.core.text.document import Document

BATCH = 64


class ChunkTexts(Protocol):
    """Hands out the texts of chunks."""

    def texts(self, chunks: Sequence[int]) -> list[str]:
        """Texts of the chunks, in the order asked for."""


@dataclass(frozen=True)
class ChunkTable:
    """Columns of n chunks, documents one after another and offsets rising within each.

    document : (n,) int64, position of the document in the corpus
    start, end : (n,) int64, the chunk's range in its document, in code points
    tokens : (n,) int64, encoder tokens, special ones left out
    section : (n,) int64, index of the innermost section that holds most of the chunk, or -1
    """

    document: Offsets
    start: Offsets
    end: Offsets
    tokens: Offsets
    section: Offsets

    def __len__(self) -> int:
        return len(self.start)

    def of_document(self, position: int) -> slice:
        """The rows of one document."""
        low, high = np.searchsorted(self.document, [position, position + 1])
        return slice(int(low), int(high))

    def columns(self) -> dict[str, NDArray[Any]]:
        return {
            "document": self.document,
            "start": self.start,
            "end": self.end,
            "tokens": self.tokens,
            "section": self.section,
        }


@dataclass(frozen=True)
class CorpusTexts:
    """Chunk texts from documents held in memory."""

    documents: Sequence[Document]
    table: ChunkTable

    def texts(self, chunks: Sequence[int]) -> list[str]:
        table = self.table
        return [self.documents[table.document[chunk]].text[table.start[chunk] : table.end[chunk]] for chunk in chunks]


def cut(
    documents: Sequence[Document],
    chunking: dict[str, Any],
    tokens: TokenOffsets,
    progress: Progress | None = None,
) -> ChunkTable:
    """Cut documents by the `chunking` part of a recipe.

    Parameters
    ----------
    documents : sequence of Document
    chunking : dict
        `rule` ("fixed-window" or "natural-breaks"), `unit` ("characters", "words" or "tokens"), `size`
        and `overlap` in that unit.
    tokens : TokenOffsets
        Counts tokens; also the unit where `unit` is "tokens".

    Notes
    -----
    Every character that is not white space is in some chunk. White space at the ends of a chunk is trimmed.
    """
    progress = progress or Silent()
    progress.start("cut documents into chunks", len(documents), "documents")
    columns: list[NDArray[np.int64]] = []
    for first in range(0, len(documents), BATCH):
        batch = documents[first : first + BATCH]
        for place, (document, token_units) in enumerate(
            zip(batch, tokens.token_offsets([document.text for document in batch]), strict=True)
        ):
            starts, ends = cut_one(document, chunking, token_units)
            sections = _sections_of(document, starts, ends)
            position = np.full(len(starts), first + place, np.int64)
            columns.append(np.stack([position, starts, ends, token_units.count(starts, ends), sections]))
        progress.advance(len(batch))
    joined = np.concatenate(columns, axis=1) if columns else np.empty((5, 0), np.int64)
    return ChunkTable(*(np.ascontiguousarray(row) for row in joined))


def cut_one(document: Document, chunking: dict[str, Any], token_units: Units) -> tuple[Offsets, Offsets]:
    """Cut one document; returns the starts and ends of its chunks, blank ones left out."""
    unit: Callable[[str], Units] = {"characters": characters, "words": words}.get(
        chunking["unit"], lambda _text: token_units
    )
    units = unit(document.text)
    if chunking["rule"] == "fixed-window":
        starts, ends = fixed_window(units, chunking["size"], chunking["overlap"])
    else:
        starts, ends = natural_breaks(document, units, chunking["size"], chunking["overlap"])
    return _trim(document.text, starts, ends)


def _trim(text: str, starts: Offsets, ends: Offsets) -> tuple[Offsets, Offsets]:
    kept: list[tuple[int, int]] = []
    reached = -1
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        piece = text[start:end]
        bare = piece.strip()
        if not bare:
            continue
        begin = start + len(piece) - len(piece.lstrip())
        finish = begin + len(bare)
        if finish <= reached:
            continue
        if kept and begin <= kept[-1][0]:
            # Without the white space before it, this chunk holds all of the last one.
            kept.pop()
        kept.append((begin, finish))
        reached = finish
    bounds = np.asarray(kept, dtype=np.int64).reshape(-1, 2)
    return np.ascontiguousarray(bounds[:, 0]), np.ascontiguousarray(bounds[:, 1])


def _sections_of(document: Document, starts: Offsets, ends: Offsets) -> Offsets:
    """Index of the innermost section that holds most of each chunk."""
    chosen = np.full(len(starts), -1, np.int64)
    if not document.sections:
        return chosen
    begins = np.array([section.start for section in document.sections], np.int64)
    finishes = np.append(begins[1:], len(document.text))
    low = np.searchsorted(begins, starts, side="right") - 1
    high = np.searchsorted(begins, ends, side="left") - 1
    for row in range(len(starts)):
        held = {
            index: min(ends[row], finishes[index]) - max(starts[row], begins[index])
            for index in range(max(low[row], 0), high[row] + 1)
        }
        if low[row] < 0:
            held[-1] = begins[0] - starts[row]
        chosen[row] = max(held, key=lambda index: held[index])
    return chosen
