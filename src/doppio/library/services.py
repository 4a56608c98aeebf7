"""Documents in and out: stored, corrected, removed."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from django.db import transaction

from doppio.core.errors import DocumentError
from doppio.core.fingerprint import fingerprint, text_digest
from doppio.core.text.document import PAGE, Block
from doppio.core.text.document import Document as CoreDocument
from doppio.core.text.outline import Correction, corrected
from doppio.core.text.outline import Section as CoreSection
from doppio.library import files
from doppio.library.models import Document, DocumentVersion, Section, SourceFile, Workspace
from doppio.library.signals import arrived, leaving, text_changed

BATCH = 2000


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
    pictures = [[picture.to_json() for picture in document.pictures]] if document.pictures else []
    return fingerprint(document.digest, dict(document.metadata), *given, *pictures)


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
        "pictures",
    ):
        setattr(row, name, getattr(fresh, name))
    row.version, row.file = version, file or row.file
    unmatched = _apply(row, corrections)
    moved = Moved()
    if row.text != before:
        for _, answer in text_changed.send(Document, document=row, before=before):
            moved = answer if isinstance(answer, Moved) else moved
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
        pictures=[picture.to_json() for picture in document.pictures],
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
