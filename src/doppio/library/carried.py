"""What a workspace's file holds of documents: the files, and what was read of them."""

from collections.abc import Iterator

from doppio.core.text.document import Block
from doppio.core.text.document import Document as CoreDocument
from doppio.core.text.outline import Correction, sections_of
from doppio.core.text.pictures import Picture
from doppio.library.carrying import People, Row, batches, carried, fields_of
from doppio.library.models import Document, DocumentVersion, SourceFile, Workspace
from doppio.library.services import correct_outline, store_documents

AT_ONCE = 100
VERSION = ("version", "words", "file_digest", "labels_moved", "labels_lost", "corrections_lost")


class Files:
    """The files as they were imported; their bytes lie beside the tables."""

    name = "files"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        for row in workspace.files.order_by("name"):
            yield {"name": row.name, "digest": row.digest, "bytes": row.bytes, "fields": row.fields}

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        for some in batches(rows):
            SourceFile.objects.bulk_create(
                [
                    SourceFile(workspace=workspace, **fields_of(row, "name", "digest", "bytes", "fields"))
                    for row in some
                ]
            )


class Documents:
    """Canonical texts with their structure, corrections of the outline, and what became of them so far."""

    name = "documents"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        found = workspace.documents.order_by("name").select_related("file").prefetch_related("versions")
        for row in found.iterator(chunk_size=AT_ONCE):
            yield {
                "name": row.name, "title": row.title, "text": row.text, "file": row.file.name if row.file else None,
                "blocks": row.found, "corrections": row.corrections, "metadata": row.metadata, "carried": row.carried,
                "given": row.given, "pictures": row.pictures, "version": row.version,
                "versions": [{name: getattr(version, name) for name in VERSION} for version in row.versions.all()],
            }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        by_name = {row.name: row for row in workspace.files.all()}
        for some in batches(rows):
            store_documents(workspace, [_core(row) for row in some])
            there = {row.name: row for row in workspace.documents.filter(name__in=[row["name"] for row in some])}
            self._finish([(there[row["name"]], row) for row in some], by_name)

    @staticmethod
    def _finish(stored: list[tuple[Document, Row]], by_name: dict[str, SourceFile]) -> None:
        """What `store_documents` does not know: corrections, the file, and what became of it so far."""
        records = [record for record, _ in stored]
        for record, row in stored:
            corrections = [Correction.from_json(body) for body in row["corrections"]]
            if corrections:
                correct_outline(record, corrections)
            record.file = by_name[row["file"]] if row["file"] is not None else None
            record.version = row["version"]
        Document.objects.bulk_update(records, ["file", "version"])
        DocumentVersion.objects.filter(document__in=records).delete()
        DocumentVersion.objects.bulk_create(
            [
                DocumentVersion(document=record, **fields_of(version, *VERSION))
                for record, row in stored
                for version in row["versions"]
            ]
        )


def _core(row: Row) -> CoreDocument:
    blocks = tuple(Block(*block) for block in row["blocks"])
    length = len(row["text"])
    if any(not 0 <= block.start <= block.end <= length for block in blocks):
        raise ValueError(f"blocks: one is no range within 0 to {length}")
    return CoreDocument(
        row["name"], row["title"], row["text"], blocks, sections_of(row["text"], blocks), dict(row["metadata"]),
        dict(row["carried"]), tuple((given, kept) for given, kept in row["given"]),
        tuple(Picture.from_json(picture) for picture in row.get("pictures", ())),
    )  # fmt: skip


def connect() -> None:
    """Register the parts."""
    carried(Files())
    carried(Documents())
