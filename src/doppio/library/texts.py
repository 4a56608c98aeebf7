"""Texts of chunks out of the recorded documents, and what is shown beside them."""

import json
from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, replace
from functools import cache, partial
from itertools import groupby
from typing import Any

import numpy as np
from django.db import connection
from django.db.models.functions import Length

from doppio.core.chunking.context import NONE, PATH, titled_path, with_context
from doppio.core.chunking.table import ChunkTable, DocumentTold
from doppio.core.errors import DocumentError
from doppio.core.formats.page_reading import PDF
from doppio.core.last_used import LastUsed
from doppio.core.text.document import PAGE
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
from doppio.core.text.written import Cut, TextsOfList, WrittenTexts
from doppio.library import pictures
from doppio.library.corpus import Corpus
from doppio.library.models import Document, SourceFile
from doppio.library.planned import planned_once

CHANGED = "Documents have changed or were removed since they were cut; build the recipe again."


@dataclass(frozen=True)
class DocumentFacts:
    """What is shown of a document beside its chunks.

    paths : by section index, titles from the outermost section down
    page_starts, pages : where each page begins, and its number
    figures : its pictures, as `figures_of` tells them
    """

    title: str
    carried: Mapping[str, str]
    paths: Mapping[int, list[str]]
    page_starts: Sequence[int] = ()
    pages: Sequence[int] = ()
    figures: Sequence[Mapping[str, Any]] = ()

    def page(self, start: int) -> int:
        """The page that something begins on; 0 where the document has none."""
        return max(self.pages[: bisect_right(self.page_starts, start)], default=0)


def figures_of(row: Document) -> list[dict[str, Any]]:
    """The pictures of a document with their numbers, from 1; none where its file was not kept."""
    return [] if row.file_id is None else _figures(row.pictures)


def _figures(pictures: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    return [
        {"number": number, **picture, "anchor": list(_anchor(picture))} for number, picture in enumerate(pictures, 1)
    ]


def figures_between(figures: Sequence[Mapping[str, Any]], start: int, end: int) -> list[Mapping[str, Any]]:
    """The pictures that stand in a range of their document."""
    return [figure for figure in figures if stands_in(_anchor(figure), start, end)]


def _anchor(figure: Mapping[str, Any]) -> tuple[int, int]:
    low, high = figure.get("anchor") or (figure["start"], figure["end"])
    return low, high


class KnownFacts:
    """Facts of the documents that were shown last; a document that changes has another digest."""

    def __init__(self, kept: int = 4096) -> None:
        self._known: LastUsed[tuple[int, str], DocumentFacts] = LastUsed(kept)

    def of(self, documents: Mapping[int, str]) -> tuple[dict[int, DocumentFacts], set[int]]:
        """Facts of documents by primary key, given their digests, and which of them were read just now; two queries,
        or none where all are known.

        Raises
        ------
        DocumentError
            If one of them has changed or gone.
        """
        found = {pk: facts for (pk, _), facts in self._known.of(documents.items()).items()}
        lacking = [pk for pk in documents if pk not in found]
        if not lacking:
            return found, set()
        with planned_once() as cursor:
            cursor.execute(FACTS, [lacking])
            rows = {row[0]: row for row in cursor.fetchall()}
        if any(pk not in rows or rows[pk][1] != documents[pk] for pk in lacking):
            raise DocumentError(CHANGED)
        pages = _pages_of([pk for pk in lacking if rows[pk][2]])
        for pk in lacking:
            _, _, _, title, carried, pictures, file, sections = rows[pk]
            starts, numbers = pages.get(pk, ((), ()))
            figures = [] if file is None else _figures(json.loads(pictures))
            paths = _paths_of(json.loads(sections or "[]"))
            found[pk] = DocumentFacts(title, json.loads(carried), paths, starts, numbers, figures)
        self._known.keep({(pk, documents[pk]): found[pk] for pk in lacking})
        return found, set(lacking)


known_facts = KnownFacts()


# Documents whose texts are read at a time.
TEXTS_AT_ONCE = 64
NOTHING = Cut("", (1, 1))
PAGES = (
    "SELECT d.id, (b->>1)::int, (b->>3)::int FROM library_document d, jsonb_array_elements(d.blocks) b "
    f"WHERE d.id = ANY(%s::bigint[]) AND b->>0 = '{PAGE}' ORDER BY 1, 2"
)
# Whatever is written: documents that are not what they were are told.
WHOLE = (
    "SELECT id, digest, CASE WHEN id = ANY(%s::bigint[]) THEN text END FROM library_document "
    "WHERE id = ANY(%s::bigint[])"
)
SECTIONS = (
    "SELECT document_id, index, parent, number, title FROM library_section WHERE document_id = ANY(%s::bigint[]) "
    "ORDER BY 1, 2"
)
FACTS = (
    "SELECT id, digest, pages, title, carried, pictures, file_id, (SELECT "
    "jsonb_agg(jsonb_build_array(s.index, s.parent, s.number, s.title) ORDER BY s.index) FROM library_section s "
    "WHERE s.document_id = d.id) FROM library_document d WHERE id = ANY(%s::bigint[])"
)


@dataclass(frozen=True)
class Cited:
    """A range of a document and where it stands; the page is 0 where the document has none."""

    text: str
    lines: tuple[int, int]
    page: int


@dataclass(frozen=True)
class RecordedTexts:
    """Chunk texts cut out of what is written of their documents beside the index, or else out of the records.

    Of records whole texts are read, once a call and some at a time, and cut here: the database would walk a document
    sign by sign to each range, which takes twenty times as long.

    A chunk's offsets are good for the document that was cut and for no later version of it: each text comes with a
    look at the digest, and a document that has changed or gone since is told instead of read.

    context : the chunking's
    written : None where nothing is written
    """

    corpus: Corpus
    table: ChunkTable
    context: str = NONE
    written: TextsOfList | None = None

    def read_from(self, written: TextsOfList) -> "RecordedTexts":
        return replace(self, written=written)

    def texts(self, chunks: Sequence[int]) -> list[str]:
        return self._cut_out(chunks, self.table.start, self.table.end)

    def hosts(self, chunks: Sequence[int]) -> list[str]:
        return self._cut_out(chunks, self.table.host_start, self.table.host_end)

    def between(self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int]) -> list[str]:
        return self._ranges(chunks, starts, ends)

    def metadata(self, chunks: Sequence[int]) -> list[Mapping[str, Any]]:
        owners = self.owners(chunks)
        told = dict(Document.objects.filter(pk__in=set(owners)).values_list("pk", "metadata"))
        self._check(chunks)
        return [told[owner] for owner in owners]

    def told_stamp(self) -> str:
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT max(changed_at)::text FROM library_document WHERE id = ANY(%s::bigint[])",
                [list(self.corpus.documents)],
            )
            return str(cursor.fetchone()[0])

    def documents_told(self) -> list[DocumentTold]:
        rows = Document.objects.filter(pk__in=self.corpus.documents).values_list("pk", "name", "title", "metadata")
        told = {pk: DocumentTold(name, title, metadata) for pk, name, title, metadata in rows}
        gone = DocumentTold("", "", {})
        return [told.get(pk, gone) for pk in self.corpus.documents]

    def owners(self, chunks: Sequence[int]) -> list[int]:
        """Primary keys of the documents that chunks are of."""
        return [self.corpus.documents[position] for position in self.table.document[list(chunks)].tolist()]

    def facts(self, chunks: Sequence[int]) -> dict[int, DocumentFacts]:
        """Facts of the documents that chunks are of, by primary key."""
        return self._facts(chunks)[0]

    def _facts(self, chunks: Sequence[int]) -> tuple[dict[int, DocumentFacts], set[int]]:
        return known_facts.of(dict(zip(self.owners(chunks), self._digests(chunks), strict=True)))

    def _digests(self, chunks: Sequence[int]) -> list[str]:
        return [self.corpus.digests[position] for position in self.table.document[list(chunks)].tolist()]

    def _cut_out(self, chunks: Sequence[int], start: np.ndarray, end: np.ndarray) -> list[str]:
        rows = np.asarray(chunks, np.int64)
        return self._ranges(chunks, start[rows].tolist(), end[rows].tolist())

    def _ranges(self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int]) -> list[str]:
        return [cut.text for cut in self._cut(chunks, starts, ends)]

    def cited(self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int]) -> list[Cited]:
        """Ranges of the documents that the chunks are of, with the lines and the page where each stands."""
        (facts, seen), owners = self._facts(chunks), self.owners(chunks)
        return [
            Cited(cut.text, cut.lines, facts[owner].page(start))
            for owner, start, cut in zip(owners, starts, self._cut(chunks, starts, ends, seen), strict=True)
        ]

    def _cut(
        self, chunks: Sequence[int], starts: Sequence[int], ends: Sequence[int], seen: Set[int] = frozenset()
    ) -> list[Cut]:
        """A range of the document that each chunk is of, as it was cut; `seen` are documents whose digests were
        looked at just now.

        Raises
        ------
        DocumentError
            If one of the documents has changed or gone.
        """
        places: dict[int, list[int]] = {}
        digests: dict[int, str] = {}
        for place, (owner, digest) in enumerate(zip(self.owners(chunks), self._digests(chunks), strict=True)):
            places.setdefault(owner, []).append(place)
            digests[owner] = digest
        owners = list(places)
        found: list[Cut] = [NOTHING] * len(chunks)
        for first in range(0, len(owners), TEXTS_AT_ONCE):
            some = {owner: digests[owner] for owner in owners[first : first + TEXTS_AT_ONCE]}
            written = {owner: self.written and self.written.of(chunks[places[owner][0]]) for owner in some}
            lacking = [owner for owner in some if written[owner] is None]
            unseen = {owner: digest for owner, digest in some.items() if owner not in seen or not written[owner]}
            whole = _whole(unseen, lacking)
            for owner, there in written.items():
                texts, row = there or (WrittenTexts.of(whole[owner]), 0)
                for place in places[owner]:
                    found[place] = texts.cut(row, starts[place], ends[place])
        return found

    def _check(self, chunks: Sequence[int]) -> None:
        """What was just read of these documents was read of what was cut.

        Raises
        ------
        DocumentError
            If one of them has changed or gone.
        """
        wanted = dict(zip(self.owners(chunks), self._digests(chunks), strict=True))
        if dict(Document.objects.filter(pk__in=wanted).values_list("pk", "digest")) != wanted:
            raise DocumentError(CHANGED)

    def pictures(self, chunks: Sequence[int]) -> list[list[Shown]]:
        """The pictures that chunks carry; they are drawn and read by the process for that, once, and kept."""
        owners = self.owners(chunks)
        rows = Document.objects.filter(pk__in=set(owners), file__isnull=False).exclude(pictures=[])
        held = {row.pk: row for row in rows.select_related("file").only("pictures", "name", "file")}
        self._check(chunks)
        shown = {pk: _shown(row) for pk, row in held.items()}
        starts, ends = self.table.start, self.table.end
        return [
            [one for anchor, one in shown.get(owner, ()) if stands_in(anchor, int(starts[chunk]), int(ends[chunk]))]
            for chunk, owner in zip(chunks, owners, strict=True)
        ]

    def sheets(self, chunks: Sequence[int]) -> list[list[Sheet]]:
        """The pages that chunks stand on, or their pictures; drawn and read as those are, once, and kept."""
        owners, shown = self.owners(chunks), self.pictures(chunks)
        facts = self.facts(chunks)
        files = {
            row.pk: row.file
            for row in Document.objects.filter(pk__in=set(owners), file__isnull=False).select_related("file")
            .only("file")
            if row.file and row.file.name.lower().endswith(PDF)
        }  # fmt: skip
        starts, ends = self.table.start, self.table.end
        found = []
        for chunk, owner, own in zip(chunks, owners, shown, strict=True):
            told = facts[owner]
            if owner not in files or not told.pages:
                found.append([as_sheet(one) for one in own])
                continue
            some = pages_between(told.page_starts, told.pages, int(starts[chunk]), int(ends[chunk]))
            found.append([_sheet(files[owner], page, told.figures) for page in some])
        return found

    def pages(self, chunks: Sequence[int]) -> list[tuple[int, int]]:
        owners, facts = self.owners(chunks), self.facts(chunks)
        lengths = dict(Document.objects.filter(pk__in=set(owners)).values_list("pk", Length("text")))
        starts, ends = self.table.start, self.table.end
        return [
            whole_pages(facts[owner].page_starts, lengths.get(owner, 0), int(starts[chunk]), int(ends[chunk]))
            for chunk, owner in zip(chunks, owners, strict=True)
        ]

    def indexed(self, chunks: Sequence[int]) -> list[str]:
        # The texts come last: their digests are looked at, and hold for what was read before.
        lines = self.lines(chunks)
        return [with_context(line, text) for line, text in zip(lines, self.texts(chunks), strict=True)]

    def titles(self, chunks: Sequence[int]) -> list[str]:
        owners = self.owners(chunks)
        titles = dict(Document.objects.filter(pk__in=set(owners)).values_list("pk", "title"))
        self._check(chunks)
        return [titles[owner] for owner in owners]

    def headings(self, chunks: Sequence[int]) -> list[str]:
        paths = self._paths(chunks)
        self._check(chunks)
        return ["\n".join(path) for path in paths]

    def lines(self, chunks: Sequence[int]) -> list[str]:
        """The context line of each chunk; two queries, however many chunks."""
        if self.context == NONE or not len(chunks):
            return [""] * len(chunks)
        paths: Sequence[Sequence[str]] = self._paths(chunks) if self.context == PATH else [()] * len(chunks)
        return [titled_path(title, path) for title, path in zip(self.titles(chunks), paths, strict=True)]

    def _paths(self, chunks: Sequence[int]) -> list[Sequence[str]]:
        facts = self.facts(chunks)
        sections = self.table.section[list(chunks)].tolist()
        return [
            facts[owner].paths.get(section, ()) for owner, section in zip(self.owners(chunks), sections, strict=True)
        ]


def _shown(row: Document) -> list[tuple[tuple[int, int], Shown]]:
    """The pictures of a document, each with the range that stands for it."""
    assert row.file is not None
    digest, name = row.file.digest, row.file.name
    told = [Picture.from_json(one) for one in row.pictures]

    @cache
    def text() -> str:
        return str(Document.objects.values_list("text", flat=True).get(pk=row.pk))

    def one(number: int, picture: Picture, anchor: tuple[int, int]) -> Shown:
        def read() -> str:
            if picture.is_page and picture.anchor:
                return text()[slice(*anchor)].strip()
            return "\n".join(line.text for line in pictures.words(digest, name, told, number))

        lines = partial(_words, digest, name, told, number)
        draw = partial(pictures.drawn, digest, name, told, number)
        of = picture.digest or f"{digest}-{number}"
        return Shown(of, picture.said, draw, read, picture.is_page, number, lines)

    anchors = [_anchor(one) for one in row.pictures]
    places = enumerate(zip(told, anchors, strict=True), 1)
    return [(anchor, one(number, picture, anchor)) for number, (picture, anchor) in places]


def _sheet(file: SourceFile, page: int, figures: Sequence[Mapping[str, Any]]) -> Sheet:
    """A page of a PDF file, with what can be read on its pictures."""
    told = [Picture.from_json({field: one[field] for field in one if field != "number"}) for one in figures]
    on = figures_on(told, page)

    def lines() -> list[Line]:
        read = [(one.place, partial(_words, file.digest, file.name, told, number)) for number, one in on]
        return on_page(pictures.page_lines(file.digest, file.name, page), read)

    draw = partial(pictures.page_drawn, file.digest, file.name, page)
    return Sheet(f"{file.digest}-{page}", page, 0, draw, lines)


def _words(digest: str, name: str, told: Sequence[Picture], number: int) -> list[Line]:
    """The lines on a picture of a file, and where they stand on it."""
    return [line.placed for line in pictures.words(digest, name, told, number)]


def _whole(documents: Mapping[int, str], wanted: Sequence[int]) -> dict[int, str]:
    """Texts of those documents that are wanted, given the digests of all; one query.

    Raises
    ------
    DocumentError
        If one of the documents has changed or gone.
    """
    if not documents:
        return {}
    with planned_once() as cursor:
        cursor.execute(WHOLE, [list(wanted), list(documents)])
        rows = cursor.fetchall()
    if {owner: digest for owner, digest, _ in rows} != dict(documents):
        raise DocumentError(CHANGED)
    return {owner: text for owner, _, text in rows if text is not None}


def _pages_of(documents: Sequence[int]) -> dict[int, tuple[list[int], list[int]]]:
    """Where each page begins and its number, of documents that have pages."""
    if not documents:
        return {}
    found: dict[int, tuple[list[int], list[int]]] = {}
    with planned_once() as cursor:
        cursor.execute(PAGES, [list(documents)])
        for document, begin, number in cursor.fetchall():
            begins, numbers = found.setdefault(document, ([], []))
            begins.append(begin)
            numbers.append(number)
    return found


def section_headings(documents: Iterable[int]) -> dict[tuple[int, int], list[str]]:
    """Titles from the outermost section down, by document and section index; one query."""
    with planned_once() as cursor:
        cursor.execute(SECTIONS, [list(documents)])
        rows = cursor.fetchall()
    found: dict[tuple[int, int], list[str]] = {}
    for document, own in groupby(rows, key=lambda row: row[0]):
        paths = _paths_of([row[1:] for row in own])
        found |= {(document, index): path for index, path in paths.items()}
    return found


def _paths_of(sections: Iterable[Sequence[Any]]) -> dict[int, list[str]]:
    """Titles from the outermost section down by index, given the index, parent, number and title of each."""
    paths: dict[int, list[str]] = {}
    for index, parent, number, title in sections:
        paths[index] = [*paths.get(parent, []), f"{number} {title}".strip()]
    return paths
