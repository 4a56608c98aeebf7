"""One file into a workspace: read within limits, recognised if it is there, a new version if it changed."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from django.db import transaction

from doppio.core.errors import DocumentError
from doppio.core.fingerprint import text_digest
from doppio.core.formats.archive import LIMITS, Limits, members, too_large
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import EDITION, ENDINGS_OF_EDITION, is_known, is_picture
from doppio.core.formats.records import Fields
from doppio.core.progress import Progress
from doppio.core.text.document import Document as CoreDocument
from doppio.library import files
from doppio.library.models import Document, SourceFile, Workspace
from doppio.library.services import remove_documents, store_documents

ADDED, REPLACED, SAME, REFUSED = "added", "replaced", "same", "refused"
UNCHANGED = "unchanged since it was imported"


@dataclass(frozen=True)
class Taken:
    """What became of one file; `reason` says why it was refused, or what it is the same as."""

    name: str
    state: str
    reason: str = ""
    counts: dict[str, int] = field(default_factory=dict)
    bytes: int = 0


def expanded(name: str, data: bytes, limits: Limits = LIMITS) -> Iterator[tuple[str, bytes | DocumentError]]:
    """The files of an archive with their bytes, or why one is refused; those of unknown endings are passed over.

    Raises
    ------
    DocumentError
        If the archive is broken or beyond the limits.
    """
    for path, content in members(data, name, limits):
        if isinstance(content, DocumentError) or is_known(path):
            yield path, content


def take_file(
    workspace: Workspace,
    name: str,
    data: bytes,
    reader: BoundedReader,
    fields: Fields | None = None,
    limits: Limits = LIMITS,
    progress: Progress | None = None,
) -> Taken:
    """Read one file, no archive, and keep its documents; nothing of a file that cannot be read is kept.

    `progress` hears of pages that are pictures, which are read one by one.
    """
    digest = files.file_digest(data)
    chosen = fields.to_json() if fields else None
    before = workspace.files.filter(name=name).first()
    unchanged = before is not None and before.digest == digest and before.fields == chosen
    if unchanged and not _read_by_older(before):
        return Taken(name, SAME, UNCHANGED, bytes=len(data))
    twins = workspace.files.filter(digest=digest).exclude(name=name)
    twin = (twins.filter(fields=chosen) if chosen else twins.filter(fields__isnull=True)).first()
    if twin is not None:
        return Taken(name, SAME, f"the same content as {twin.name}", bytes=len(data))
    try:
        if len(data) > limits.file_bytes:
            raise DocumentError(f"{name}: {too_large(len(data), limits.file_bytes)}")
        documents = reader.documents(data, name, fields, files.PageReadings(digest), progress)
        if not is_picture(name):
            # Two pictures without words are not the same for having names alike.
            _same_text(workspace, name, documents)
    except DocumentError as error:
        reason = str(error).removeprefix(f"{name}: ")
        return Taken(name, SAME if isinstance(error, _SameText) else REFUSED, reason, bytes=len(data))
    counts = _keep(workspace, name, data, digest, chosen, documents)
    if unchanged and not counts["replaced"]:
        return Taken(name, SAME, UNCHANGED, bytes=len(data))
    return Taken(name, REPLACED if before is not None else ADDED, counts=counts, bytes=len(data))


def _read_by_older(file: SourceFile | None) -> bool:
    """Whether readers of before read it, which found less in such a file."""
    return file is not None and file.edition < EDITION and file.name.lower().endswith(ENDINGS_OF_EDITION)


class _SameText(DocumentError):
    """Another document has the same text."""


def _same_text(workspace: Workspace, name: str, documents: list[CoreDocument]) -> None:
    """Refuse a file whose one document says what another one says already, such as a copy in another format."""
    if len(documents) != 1 or workspace.documents.filter(name=documents[0].id).exists():
        return
    twin = Document.objects.filter(workspace=workspace, text_digest=text_digest(documents[0].text)).first()
    if twin is not None:
        raise _SameText(f"the same text as {twin.name}")


@transaction.atomic
def _keep(
    workspace: Workspace, name: str, data: bytes, digest: str, fields: Any, documents: list[CoreDocument]
) -> dict[str, int]:
    files.hold_still()
    files.keep(data)
    file, _ = SourceFile.objects.update_or_create(
        workspace=workspace,
        name=name,
        defaults={"digest": digest, "bytes": len(data), "fields": fields, "edition": EDITION},
    )
    stored = store_documents(workspace, documents, file)
    gone = file.documents.exclude(name__in=stored.names).values_list("pk", flat=True)
    stored.removed = remove_documents(workspace, list(gone))
    return stored.counts()
