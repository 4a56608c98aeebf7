"""Between records and the core: documents in and out, chunk tables in and out, texts of chunks."""

import threading
from collections import OrderedDict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from django.db import connection, transaction

from doppio.core.chunking.context import NONE, PATH, titled_path, with_context
from doppio.core.chunking.table import ChunkTable
from doppio.core.errors import DocumentError
from doppio.core.fingerprint import fingerprint, text_digest
from doppio.core.text.document import PAGE, Block, corpus_key
from doppio.core.text.document import Document as CoreDocument
from doppio.core.text.outline import Correction, corrected
from doppio.core.text.outline import Section as CoreSection
from doppio.library import files
from doppio.library.models import Chunking, Document, DocumentVersion, Section, SourceFile, Workspace
from doppio.library.signals import arrived, leaving, text_changed

BATCH = 2000
CHANGED = "Documents have changed or were removed since they were cut; build the recipe again."


@dataclass
class Moved:
    """Labels of a document that found their place in its new text, and those that did not."""

    moved: int = 0
    lost: int = 0


@dataclass
class Stored:
    """What became of documents that were handed in."""

    added: int = 0
    replaced: int = 0
    removed: int = 0
    kept: int = 0
    labels_moved: int = 0
    labels_lost: int = 0
    corrections_lost: int = 0
    names: list[str] = field(default_factory=list)

    def counts(self) -> dict[str, int]:
        return {key: value for key, value in vars(self).items() if isinstance(value, int)}


@transaction.atomic
def store_documents(
    workspace: Workspace, documents: Sequence[CoreDocument], file: SourceFile | None = None
) -> Stored:
    """Add documents, and make a new version of each whose name is there with another content.

    Notes
    -----
    Unchanged documents are left alone. A person's corrections of the outline are applied to the new version, and
    labels move to it by their quotes.
    """
    result = Stored(names=[document.id for document in documents])
    there = {row.name: row for row in workspace.documents.filter(name__in=result.names)}
    fresh: list[tuple[Document, CoreDocument]] = []
    for document in documents:
        row = there.get(document.id)
        if row is None:
            fresh.append((_record(workspace, document, file), document))
        elif row.content == content_digest(document) and row.metadata == dict(document.metadata):
            result.kept += 1
            if file is not None and row.file_id != file.pk:
                Document.objects.filter(pk=row.pk).update(file=file)
        else:
            _replace(row, document, file, result)
    records = Document.objects.bulk_create([row for row, _ in fresh], 200)
    Section.objects.bulk_create(
        [section for row, document in fresh for section in _sections(row, document.sections)], BATCH
    )
    DocumentVersion.objects.bulk_create([_version(row) for row in records], BATCH)
    result.added = len(fresh)
    if records:
        arrived.send(Document, workspace=workspace, documents=records)
    return result


def content_digest(document: CoreDocument) -> str:
    """Digest of what was read."""
    given = [list(map(list, document.given))] if document.given else []
    return fingerprint(document.digest, dict(document.metadata), *given)


def _replace(row: Document, document: CoreDocument, file: SourceFile | None, result: Stored) -> None:
    before = row.text
    corrections = [Correction.from_json(body) for body in row.corrections]
    version = row.version + 1
    fresh = _record(row.workspace, document, file)
    for name in (
        "title",
        "text",
        "text_digest",
        "content",
        "words",
        "pages",
        "found",
        "metadata",
        "carried",
        "given",
    ):
        setattr(row, name, getattr(fresh, name))
    row.version, row.file = version, file or row.file
    unmatched = _apply(row, corrections)
    moved = Moved()
    if row.text != before:
        for _, answer in text_changed.send(Document, document=row, before=before):
            moved = answer or moved
    version_row = _version(row)
    version_row.labels_moved, version_row.labels_lost = moved.moved, moved.lost
    version_row.corrections_lost = [correction.to_json() for correction in unmatched]
    version_row.save()
    result.replaced += 1
    result.labels_moved += moved.moved
    result.labels_lost += moved.lost
    result.corrections_lost += len(unmatched)


@transaction.atomic
def correct_outline(row: Document, corrections: Sequence[Correction]) -> list[Correction]:
    """Replace the corrections of a document's outline; returns those whose heading is not in its text.

    Raises
    ------
    DocumentError
        If a correction that is new names a heading that is not there.
    """
    before = {Correction.from_json(body) for body in row.corrections}
    unmatched = _apply(row, corrections)
    wrong = [correction for correction in unmatched if correction not in before]
    if wrong:
        raise DocumentError(f"{row.name}: no heading {wrong[0].heading!r} to {wrong[0].action}")
    return unmatched


def _apply(row: Document, corrections: Sequence[Correction]) -> list[Correction]:
    """Blocks, sections and digest of a document after corrections; saved."""
    found = [Block(*block) for block in row.found]
    blocks, sections, unmatched = corrected(row.text, found, corrections)
    row.corrections = [correction.to_json() for correction in corrections]
    row.blocks = [[block.kind, block.start, block.end, block.level] for block in blocks]
    row.digest = CoreDocument(row.name, row.title, row.text, blocks, sections, row.metadata, row.carried).digest
    row.save()
    row.sections.all().delete()
    Section.objects.bulk_create(_sections(row, sections), BATCH)
    return unmatched


@transaction.atomic
def remove_documents(workspace: Workspace, numbers: Sequence[int]) -> int:
    """Remove documents; their labels are kept with their quotes until a person says what becomes of them."""
    if not numbers:
        return 0
    leaving.send(Document, workspace=workspace, documents=list(numbers))
    gone = workspace.documents.filter(pk__in=numbers)
    count = gone.count()
    digests = set(DocumentVersion.objects.filter(document__in=gone).values_list("file_digest", flat=True))
    gone.delete()
    empty = workspace.files.filter(documents__isnull=True)
    digests |= set(empty.values_list("digest", flat=True))
    empty.delete()
    transaction.on_commit(lambda: files.forget(digests))
    return count


def _record(workspace: Workspace, document: CoreDocument, file: SourceFile | None) -> Document:
    blocks = [[block.kind, block.start, block.end, block.level] for block in document.blocks]
    return Document(
        workspace=workspace,
        file=file,
        name=document.id,
        title=document.title[:500],
        text=document.text,
        text_digest=text_digest(document.text),
        digest=document.digest,
        content=content_digest(document),
        words=len(document.text.split()),
        pages=max((block.level for block in document.blocks if block.kind == PAGE), default=0),
        blocks=blocks,
        found=blocks,
        metadata=dict(document.metadata),
        carried=dict(document.carried),
        given=[list(pair) for pair in document.given],
    )


def _version(row: Document) -> DocumentVersion:
    digest = row.file.digest if row.file else ""
    return DocumentVersion(document=row, version=row.version, words=row.words, file_digest=digest)


def _sections(row: Document, sections: Iterable[CoreSection]) -> list[Section]:
    return [
        Section(
            document=row,
            index=index,
            number=section.number[:40],
            title=section.title,
            level=section.level,
            start=section.start,
            end=section.end,
            parent=section.parent,
            page=section.page,
            dropped=section.dropped,
        )
        for index, section in enumerate(sections)
    ]


@dataclass(frozen=True)
class Corpus:
    """Which documents a workspace held at one moment, and what each of them was: what a build and a reader stand on.

    documents, names, digests : of each document, in the order of their names
    """

    documents: tuple[int, ...]
    names: tuple[str, ...]
    digests: tuple[str, ...]

    @cached_property
    def key(self) -> str:
        """The corpus's fingerprint."""
        return corpus_key(list(zip(self.names, self.digests, strict=True)))

    def only(self, positions: Sequence[int]) -> "Corpus":
        """Some of its documents, in their order."""
        columns = (self.documents, self.names, self.digests)
        return Corpus(*(tuple(column[position] for position in positions) for column in columns))


def corpus_now(workspace: Workspace) -> Corpus:
    """The workspace's documents as they are now; one query, so all of it is of one moment."""
    rows = list(workspace.documents.order_by("name").values_list("pk", "name", "digest"))
    documents, names, digests = zip(*rows, strict=True) if rows else ((), (), ())
    return Corpus(documents, names, digests)


class SeenCorpora:
    """Corpora that were read lately, so that a question does not read the whole list of documents.

    The database sums up a hash over all that a corpus is made of: it takes no row out of it.
    """

    def __init__(self, kept: int = 32) -> None:
        self._kept = kept
        self._lock = threading.Lock()
        self._seen: OrderedDict[tuple[int, int, str], Corpus] = OrderedDict()

    def now(self, workspace: Workspace) -> Corpus:
        """The workspace's documents as they are now."""
        key = self._state(workspace)
        with self._lock:
            if key in self._seen:
                self._seen.move_to_end(key)
                return self._seen[key]
        found = corpus_now(workspace)
        if self._state(workspace) == key:
            # Nothing came between the two.
            with self._lock:
                self._seen[key] = found
                while len(self._seen) > self._kept:
                    self._seen.popitem(last=False)
        return found

    @staticmethod
    def _state(workspace: Workspace) -> tuple[int, int, str]:
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT count(*), coalesce(sum(hashtextextended(id || ' ' || digest || ' ' || name, 7)), 0)::text "
                "FROM library_document WHERE workspace_id = %s",
                [workspace.pk],
            )
            count, summed = cursor.fetchone()
        return workspace.pk, count, summed


seen_corpora = SeenCorpora()


def corpus_of(workspace: Workspace) -> str:
    """Fingerprint of the workspace's documents."""
    return corpus_now(workspace).key


def core_documents(workspace: Workspace) -> list[CoreDocument]:
    """The workspace's documents for the core, in the order of their names."""
    return [core_document(row) for row in workspace.documents.order_by("name").prefetch_related("sections")]


def core_document(row: Document) -> CoreDocument:
    """A document for the core."""
    return CoreDocument(
        row.name,
        row.title,
        row.text,
        tuple(Block(*block) for block in row.blocks),
        tuple(
            CoreSection(s.number, s.title, s.level, s.start, s.end, s.parent, s.page, s.dropped)
            for s in row.sections.all()
        ),
        row.metadata,
        row.carried,
        tuple((given, kept) for given, kept in row.given),
    )


def record_chunking(workspace: Workspace, key: str, settings: dict, chunks: int) -> Chunking:
    """Keep a record of how the corpus was cut; the chunks themselves are an artifact."""
    found, _ = workspace.chunkings.get_or_create(key=key, defaults={"settings": settings, "count": chunks})
    return found


@dataclass(frozen=True)
class DocumentFacts:
    """What is shown of a document beside its chunks.

    paths : by section index, titles from the outermost section down
    """

    title: str
    carried: Mapping[str, str]
    paths: Mapping[int, list[str]]


class KnownFacts:
    """Facts of the documents that were shown last; a document that changes has another digest."""

    def __init__(self, kept: int = 4096) -> None:
        self._kept = kept
        self._lock = threading.Lock()
        self._known: OrderedDict[tuple[int, str], DocumentFacts] = OrderedDict()

    def of(self, documents: Mapping[int, str]) -> dict[int, DocumentFacts]:
        """Facts of documents by primary key, given their digests; two queries, or none where all are known.

        Raises
        ------
        DocumentError
            If one of them has changed or gone.
        """
        with self._lock:
            found = {pk: self._known[pk, digest] for pk, digest in documents.items() if (pk, digest) in self._known}
        lacking = [pk for pk in documents if pk not in found]
        if not lacking:
            return found
        paths: dict[int, dict[int, list[str]]] = {pk: {} for pk in lacking}
        for (document, section), path in section_headings(lacking).items():
            paths[document][section] = path
        rows = {row.pk: row for row in Document.objects.filter(pk__in=lacking).only("title", "carried", "digest")}
        if any(pk not in rows or rows[pk].digest != documents[pk] for pk in lacking):
            raise DocumentError(CHANGED)
        for pk in lacking:
            found[pk] = DocumentFacts(rows[pk].title, rows[pk].carried, paths[pk])
        with self._lock:
            for pk in lacking:
                self._known[pk, documents[pk]] = found[pk]
            while len(self._known) > self._kept:
                self._known.popitem(last=False)
        return found


known_facts = KnownFacts()


@dataclass(frozen=True)
class RecordedTexts:
    """Chunk texts cut out of the recorded documents by the database, one query a call.

    A chunk's offsets are good for the document that was cut and for no later version of it: each text comes with a
    look at the digest, and a document that has changed or gone since is told instead of read.

    context : the chunking's
    """

    corpus: Corpus
    table: ChunkTable
    context: str = NONE

    def texts(self, chunks: Sequence[int]) -> list[str]:
        return self._cut_out(chunks, self.table.start, self.table.end)

    def hosts(self, chunks: Sequence[int]) -> list[str]:
        return self._cut_out(chunks, self.table.host_start, self.table.host_end)

    def owners(self, chunks: Sequence[int]) -> list[int]:
        """Primary keys of the documents that chunks are of."""
        return [self.corpus.documents[position] for position in self.table.document[list(chunks)].tolist()]

    def facts(self, chunks: Sequence[int]) -> dict[int, DocumentFacts]:
        """Facts of the documents that chunks are of, by primary key."""
        return known_facts.of(dict(zip(self.owners(chunks), self._digests(chunks), strict=True)))

    def _digests(self, chunks: Sequence[int]) -> list[str]:
        return [self.corpus.digests[position] for position in self.table.document[list(chunks)].tolist()]

    def _cut_out(self, chunks: Sequence[int], start: np.ndarray, end: np.ndarray) -> list[str]:
        rows = np.asarray(chunks, np.int64)
        if not len(rows):
            return []
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT substring(d.text FROM w.low + 1 FOR w.high - w.low) "
                "FROM unnest(%s::bigint[], %s::text[], %s::int[], %s::int[]) "
                "WITH ORDINALITY AS w(id, digest, low, high, place) "
                "JOIN library_document d ON d.id = w.id AND d.digest = w.digest ORDER BY w.place",
                [self.owners(chunks), self._digests(chunks), start[rows].tolist(), end[rows].tolist()],
            )
            found = [text for (text,) in cursor.fetchall()]
        if len(found) != len(rows):
            raise DocumentError(CHANGED)
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
        owners = self.owners(chunks)
        paths = section_headings(set(owners))
        sections = self.table.section[list(chunks)].tolist()
        return [paths.get(place, ()) for place in zip(owners, sections, strict=True)]


def section_headings(documents: Iterable[int]) -> dict[tuple[int, int], list[str]]:
    """Titles from the outermost section down, by document and section index; one query."""
    rows = Section.objects.filter(document__in=list(documents)).order_by("document", "index")
    paths: dict[tuple[int, int], list[str]] = {}
    for document, index, parent, number, title in rows.values_list("document", "index", "parent", "number", "title"):
        paths[document, index] = [*paths.get((document, parent), []), f"{number} {title}".strip()]
    return paths
