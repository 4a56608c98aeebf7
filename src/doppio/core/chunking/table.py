"""All chunks of a corpus as columns; a chunk's id is its row."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from functools import cache, partial
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.context import NONE, carried_text, context_line, with_context
from doppio.core.chunking.cutter import Cutter
from doppio.core.chunking.kind import filled
from doppio.core.chunking.parts import kept_ranges, part_of
from doppio.core.fingerprint import fingerprint
from doppio.core.formats.page_reading import read_picture
from doppio.core.progress import Progress, Silent
from doppio.core.text.document import PAGE, Document
from doppio.core.text.pictures import (
    Line,
    Picture,
    Sheet,
    Shown,
    as_sheet,
    figures_on,
    on_page,
    pages_between,
    stands_in,
    whole_pages,
)
from doppio.core.text.units import Offsets, SentenceVectors, TokenOffsets, Units, characters, words
from doppio.core.text.written import TextsOfList

BATCH = 64


@dataclass(frozen=True)
class DocumentTold:
    """What conditions look at."""

    name: str
    title: str
    metadata: Mapping[str, Any]


class ChunkTexts(Protocol):
    """Hands out the texts of chunks."""

    def read_from(self, written: TextsOfList) -> "ChunkTexts":
        """The same texts, read from what is written of them where they are not in memory."""

    def texts(self, chunks: Sequence[int]) -> list[str]:
        """Texts of the chunks as they stand in their documents, in the order asked for."""

    def indexed(self, chunks: Sequence[int]) -> list[str]:
        """The same with the context line before each, as indexes and scorers read them."""

    def lines(self, chunks: Sequence[int]) -> list[str]:
        """The context line of each; empty where there is none."""

    def hosts(self, chunks: Sequence[int]) -> list[str]:
        """Texts that the chunks hand on: their hosts, or the chunks themselves where there are none."""

    def between(self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int]) -> list[str]:
        """Ranges of the documents that the chunks are of; what is beyond a document's end is left out."""

    def metadata(self, chunks: Sequence[int]) -> list[Mapping[str, Any]]:
        """What the document of each says of itself."""

    def documents_told(self) -> list[DocumentTold]:
        """What is known of every document, in the order of the corpus."""

    def told_stamp(self) -> str:
        """Another text whenever what is known of some document is another."""

    def titles(self, chunks: Sequence[int]) -> list[str]:
        """Titles of the documents that the chunks are of."""

    def headings(self, chunks: Sequence[int]) -> list[str]:
        """Headings of the sections around each chunk, from the outermost in."""

    def pictures(self, chunks: Sequence[int]) -> list[list[Shown]]:
        """The pictures that each chunk carries, in the order of the document."""

    def sheets(self, chunks: Sequence[int]) -> list[list[Sheet]]:
        """The pages that each chunk stands on; of a document whose pages cannot be seen the pictures it carries."""

    def pages(self, chunks: Sequence[int]) -> list[tuple[int, int]]:
        """Where the first page of each chunk begins and its last one ends; the chunk where there are no pages."""


@dataclass(frozen=True)
class ChunkTable:
    """Columns of n chunks, documents one after another and offsets rising within each; all (n,) int64.

    document : position of the document in the corpus
    start, end : the chunk's range in its document, in code points
    tokens : encoder tokens of the chunk, special ones left out
    section : index of the innermost section that holds most of the chunk, or -1
    host_start, host_end : range that is handed on when the chunk is found; the chunk itself without hosts
    context : encoder tokens of the context line before the chunk
    handed : encoder tokens of what is handed on: the host, and the document's carried fields
    """

    document: Offsets
    start: Offsets
    end: Offsets
    tokens: Offsets
    section: Offsets
    host_start: Offsets
    host_end: Offsets
    context: Offsets
    handed: Offsets

    @classmethod
    def flat(cls, document: Offsets, start: Offsets, end: Offsets, tokens: Offsets, section: Offsets) -> "ChunkTable":
        """A table without hosts, context lines or carried fields."""
        return cls(document, start, end, tokens, section, start, end, np.zeros_like(tokens), tokens)

    def __len__(self) -> int:
        return len(self.start)

    def of_document(self, position: int) -> slice:
        """The rows of one document."""
        low, high = np.searchsorted(self.document, [position, position + 1])
        return slice(int(low), int(high))

    def columns(self) -> dict[str, NDArray[Any]]:
        return {name: getattr(self, name) for name in COLUMNS}

    @property
    def indexed_tokens(self) -> Offsets:
        """Encoder tokens of each chunk with its context line."""
        return self.tokens + self.context


COLUMNS = tuple(column.name for column in fields(ChunkTable))


def table_of(parts: Sequence[Mapping[str, NDArray[np.int64]]]) -> ChunkTable:
    """One table from the columns of several, in their order."""
    return ChunkTable(
        *(
            np.ascontiguousarray(np.concatenate([np.empty(0, np.int64), *(part[name] for part in parts)]))
            for name in COLUMNS
        )
    )


@dataclass(frozen=True)
class CorpusTexts:
    """Chunk texts from documents held in memory; `context` is the chunking's."""

    documents: Sequence[Document]
    table: ChunkTable
    context: str = NONE

    def read_from(self, written: TextsOfList) -> "CorpusTexts":
        return self

    def texts(self, chunks: Sequence[int]) -> list[str]:
        table = self.table
        return [self.documents[table.document[chunk]].text[table.start[chunk] : table.end[chunk]] for chunk in chunks]

    def hosts(self, chunks: Sequence[int]) -> list[str]:
        table = self.table
        return [
            self.documents[table.document[chunk]].text[table.host_start[chunk] : table.host_end[chunk]]
            for chunk in chunks
        ]

    def between(self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int]) -> list[str]:
        owners = [self.documents[self.table.document[chunk]] for chunk in chunks]
        return [owner.text[low:high] for owner, low, high in zip(owners, starts, ends, strict=True)]

    def metadata(self, chunks: Sequence[int]) -> list[Mapping[str, Any]]:
        return [self.documents[self.table.document[chunk]].metadata for chunk in chunks]

    def told_stamp(self) -> str:
        return ""

    def documents_told(self) -> list[DocumentTold]:
        return [DocumentTold(one.id, one.title, one.metadata) for one in self.documents]

    def titles(self, chunks: Sequence[int]) -> list[str]:
        return [self.documents[self.table.document[chunk]].title for chunk in chunks]

    def headings(self, chunks: Sequence[int]) -> list[str]:
        table = self.table
        return [
            "\n".join(self.documents[table.document[chunk]].section_path(int(table.section[chunk])))
            for chunk in chunks
        ]

    def pictures(self, chunks: Sequence[int]) -> list[list[Shown]]:
        shown: dict[int, list[tuple[tuple[int, int], Shown]]] = {}
        found = []
        for chunk in chunks:
            owner, start, end = (
                int(column[chunk]) for column in (self.table.document, self.table.start, self.table.end)
            )
            if owner not in shown:
                shown[owner] = _shown(self.documents[owner])
            found.append([one for anchor, one in shown[owner] if stands_in(anchor, start, end)])
        return found

    def sheets(self, chunks: Sequence[int]) -> list[list[Sheet]]:
        found = []
        of_document: dict[int, dict[int, Shown]] = {}
        for chunk, shown in zip(chunks, self.pictures(chunks), strict=True):
            owner = int(self.table.document[chunk])
            document = self.documents[owner]
            begins, numbers = _pages(document)
            if document.paged is None or not numbers:
                found.append([as_sheet(one) for one in shown])
                continue
            start, end = int(self.table.start[chunk]), int(self.table.end[chunk])
            if owner not in of_document:
                of_document[owner] = {one.number: one for _, one in _shown(document)}
            some = pages_between(begins, numbers, start, end)
            found.append([_page(document, number, of_document[owner]) for number in some])
        return found

    def pages(self, chunks: Sequence[int]) -> list[tuple[int, int]]:
        found = []
        for chunk in chunks:
            document = self.documents[self.table.document[chunk]]
            span = int(self.table.start[chunk]), int(self.table.end[chunk])
            found.append(whole_pages(_pages(document)[0], len(document.text), *span))
        return found

    def indexed(self, chunks: Sequence[int]) -> list[str]:
        lines = self.lines(chunks)
        return [with_context(line, text) for line, text in zip(lines, self.texts(chunks), strict=True)]

    def lines(self, chunks: Sequence[int]) -> list[str]:
        table = self.table
        return [
            context_line(self.documents[table.document[chunk]], int(table.section[chunk]), self.context)
            for chunk in chunks
        ]


def _shown(document: Document) -> list[tuple[tuple[int, int], Shown]]:
    """The pictures of a document that was just read, each with the range that stands for it."""

    def one(place: int, picture: Picture) -> Shown:
        draw, (low, high) = document.drawn[place], document.anchor(picture)

        @cache
        def lines() -> list[Line]:
            return [line.placed for line in read_picture(draw())]

        def read() -> str:
            if picture.is_page:
                return document.text[low:high].strip()
            return "\n".join(text for text, _ in lines())

        digest = picture.digest or fingerprint(document.digest, place)
        return Shown(digest, picture.said, draw, read, picture.is_page, place + 1, lines)

    drawable = document.pictures[: len(document.drawn)]
    return [(document.anchor(picture), one(place, picture)) for place, picture in enumerate(drawable)]


def _pages(document: Document) -> tuple[list[int], list[int]]:
    """Where each page of a document begins, and its number."""
    pages = [block for block in document.blocks if block.kind == PAGE]
    return [block.start for block in pages], [block.level for block in pages]


def _page(document: Document, number: int, shown: Mapping[int, Shown]) -> Sheet:
    paged = document.paged
    assert paged is not None
    on = figures_on(document.pictures, number)
    figures = [(one.place, shown[at].lines) for at, one in on if at in shown]

    def lines() -> list[Line]:
        return on_page(paged.lines(number), figures)

    return Sheet(fingerprint(document.digest, number), number, 0, partial(paged.draw, number), lines)


def cut(
    documents: Sequence[Document],
    chunking: Mapping[str, Any],
    tokens: TokenOffsets,
    progress: Progress | None = None,
    encoder: SentenceVectors | None = None,
) -> ChunkTable:
    """Cut documents by the `chunking` part of a recipe.

    Parameters
    ----------
    documents : sequence of Document
    chunking : mapping
        `rule`, `unit` ("characters", "words" or "tokens"), `size`, and the rule's other settings.
    tokens : TokenOffsets
        Counts tokens; also the unit where `unit` is "tokens".
    encoder : SentenceVectors or None
        For a topic shift by sentence vectors.

    Notes
    -----
    Every character that is not white space is in some chunk, less those of dropped sections.
    """
    progress = progress or Silent()
    progress.start("cut documents into chunks", len(documents), "documents")
    parts: list[dict[str, NDArray[np.int64]]] = []
    for first in range(0, len(documents), BATCH):
        batch = documents[first : first + BATCH]
        counted = tokens.token_offsets([document.text for document in batch])
        for place, (document, token_units) in enumerate(zip(batch, counted, strict=True)):
            part = cut_one(document, chunking, token_units, tokens, encoder)
            parts.append({**part, "document": np.full(len(part["start"]), first + place, np.int64)})
        progress.advance(len(batch))
    return table_of(parts)


def cut_one(
    document: Document,
    chunking: Mapping[str, Any],
    token_units: Units,
    tokens: TokenOffsets | None = None,
    encoder: SentenceVectors | None = None,
) -> dict[str, NDArray[np.int64]]:
    """Cut one document: the columns of its chunks, `document` being 0.

    Parameters
    ----------
    token_units : Units
        The encoder's tokens of the document's text.
    tokens : TokenOffsets or None
        Counts the tokens of context lines and carried fields; None counts them as none.
    """
    settings = filled(chunking)
    unit = settings["unit"]
    units = words(document.text) if unit == "words" else token_units
    units = characters(document.text) if unit == "characters" else units
    cutter = Cutter(settings, encoder)
    host = settings["host"]
    bounds: list[tuple[Offsets, Offsets, Offsets, Offsets]] = []
    for low, high in kept_ranges(document):
        part, inside = part_of(document, low, high), units.within(low, high)
        if host is None:
            starts, ends = cutter.cut(part, inside)
            bounds.append((starts + low, ends + low, starts + low, ends + low))
            continue
        for start, end in zip(*(side.tolist() for side in cutter.hosts(part, inside, host["size"])), strict=True):
            starts, ends = cutter.cut(part_of(part, start, end), inside.within(start, end))
            whole = np.ones_like(starts)
            bounds.append((starts + low + start, ends + low + start, whole * (low + start), whole * (low + end)))
    empty = np.empty(0, np.int64)
    starts, ends, host_starts, host_ends = (
        np.concatenate([empty, *(part[side] for part in bounds)]) for side in range(4)
    )
    sections = _sections_of(document, starts, ends)
    lines = [context_line(document, section, settings["context"]) for section in sections.tolist()]
    carried = carried_text(document)
    counts = _token_counts([*lines, carried], tokens)
    return {
        "document": np.zeros(len(starts), np.int64),
        "start": starts,
        "end": ends,
        "tokens": token_units.count(starts, ends),
        "section": sections,
        "host_start": host_starts,
        "host_end": host_ends,
        "context": counts[:-1],
        "handed": token_units.count(host_starts, host_ends) + counts[-1],
    }


def _token_counts(texts: Sequence[str], tokens: TokenOffsets | None) -> Offsets:
    """Tokens of short texts, of which many are the same."""
    distinct = sorted({text for text in texts if text})
    if not distinct or tokens is None:
        return np.zeros(len(texts), np.int64)
    found = dict(zip(distinct, tokens.token_counts(distinct).tolist(), strict=True))
    return np.array([found.get(text, 0) for text in texts], np.int64)


def _sections_of(document: Document, starts: Offsets, ends: Offsets) -> Offsets:
    """Index of the innermost section that holds most of each chunk."""
    chosen = np.full(len(starts), -1, np.int64)
    if not document.sections:
        return chosen
    begins = np.array([section.start for section in document.sections], np.int64)
    finishes = np.append(begins[1:], len(document.text))
    low = np.searchsorted(begins, starts, side="right") - 1
    high = np.searchsorted(begins, ends, side="left") - 1
    whole = (low == high) & (low >= 0)
    chosen[whole] = low[whole]
    for row in np.flatnonzero(~whole).tolist():
        held = {
            index: min(ends[row], finishes[index]) - max(starts[row], begins[index])
            for index in range(max(low[row], 0), high[row] + 1)
        }
        if low[row] < 0:
            held[-1] = begins[0] - starts[row]
        chosen[row] = max(held, key=lambda index: held[index])
    return chosen
