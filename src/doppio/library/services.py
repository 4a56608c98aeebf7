"""Between records and the core: documents in, chunk tables in and out, texts of chunks."""

import hashlib
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from django.contrib.auth.models import User
from django.db import connection, transaction
from django.utils import timezone

from doppio.core.chunking.table import ChunkTable
from doppio.core.fingerprint import text_digest
from doppio.core.text.document import Block, corpus_key
from doppio.core.text.document import Document as CoreDocument
from doppio.core.text.document import Section as CoreSection
from doppio.library.models import Chunk, Chunking, Document, EntryLink, Section, Workspace

BATCH = 2000
LINK_LASTS = timedelta(hours=12)


@transaction.atomic
def load_documents(workspace: Workspace, documents: Sequence[CoreDocument]) -> dict[str, int]:
    """Bring a workspace's documents in line with these: all or nothing.

    Unchanged ones keep their records, changed ones are replaced, and missing ones are removed. Returns how many
    were added, replaced, removed and kept.
    """
    before = dict(workspace.documents.values_list("name", "digest"))
    names = {document.id for document in documents}
    fresh = [document for document in documents if before.get(document.id) != text_digest(document.text)]
    stale = [name for name in before if name not in names] + [d.id for d in fresh if d.id in before]
    if stale or fresh:
        # The chunks of a corpus that is no more would point at documents that are gone.
        workspace.chunkings.all().delete()
    workspace.documents.filter(name__in=stale).delete()
    records = Document.objects.bulk_create([_record(workspace, document) for document in fresh], BATCH)
    Section.objects.bulk_create(
        [
            Section(
                document=record,
                index=index,
                number=section.number,
                title=section.title,
                level=section.level,
                start=section.start,
                end=section.end,
                parent=section.parent,
            )
            for record, document in zip(records, fresh, strict=True)
            for index, section in enumerate(document.sections)
        ],
        BATCH,
    )
    replaced = sum(document.id in before for document in fresh)
    return {
        "added": len(fresh) - replaced,
        "replaced": replaced,
        "removed": len(stale) - replaced,
        "kept": len(documents) - len(fresh),
    }


def _record(workspace: Workspace, document: CoreDocument) -> Document:
    return Document(
        workspace=workspace,
        name=document.id,
        title=document.title,
        text=document.text,
        digest=text_digest(document.text),
        words=len(document.text.split()),
        blocks=[[block.kind, block.start, block.end, block.level] for block in document.blocks],
        metadata=dict(document.metadata),
    )


def corpus_of(workspace: Workspace) -> str:
    """Fingerprint of the workspace's documents."""
    return corpus_key(list(workspace.documents.order_by("name").values_list("name", "digest")))


def core_documents(workspace: Workspace) -> list[CoreDocument]:
    """The workspace's documents for the core, in the order of their names."""
    sections: dict[int, list[CoreSection]] = {}
    for row in Section.objects.filter(document__workspace=workspace).order_by("document", "index"):
        sections.setdefault(row.document_id, []).append(
            CoreSection(row.number, row.title, row.level, row.start, row.end, row.parent)
        )
    return [
        CoreDocument(
            row.name,
            row.title,
            row.text,
            tuple(Block(*block) for block in row.blocks),
            tuple(sections.get(row.pk, ())),
            row.metadata,
        )
        for row in workspace.documents.order_by("name")
    ]


@transaction.atomic
def record_chunks(workspace: Workspace, key: str, settings: dict, table: ChunkTable) -> Chunking:
    """Keep a chunk table as records, once."""
    found = workspace.chunkings.filter(key=key).first()
    if found is not None:
        return found
    chunking = Chunking.objects.create(workspace=workspace, key=key, settings=settings, count=len(table))
    documents = list(workspace.documents.order_by("name").values_list("pk", flat=True))
    columns = zip(*(column.tolist() for column in table.columns().values()), strict=True)
    Chunk.objects.bulk_create(
        [
            Chunk(
                chunking=chunking,
                number=number,
                document_id=documents[document],
                start=start,
                end=end,
                tokens=tokens,
                section=section,
            )
            for number, (document, start, end, tokens, section) in enumerate(columns)
        ],
        BATCH,
    )
    return chunking


@dataclass(frozen=True)
class RecordedTexts:
    """Chunk texts from the records, one query a call, cut out by the database."""

    chunking: int

    def texts(self, chunks: Sequence[int]) -> list[str]:
        wanted = [int(chunk) for chunk in chunks]
        with connection.cursor() as cursor:
            cursor.execute(
                'SELECT c.number, substring(d.text FROM c.start + 1 FOR c."end" - c.start) '
                "FROM library_chunk c JOIN library_document d ON d.id = c.document_id "
                "WHERE c.chunking_id = %s AND c.number = ANY(%s)",
                [self.chunking, wanted],
            )
            found = dict(cursor.fetchall())
        return [found[number] for number in wanted]


def make_entry_link(user: User) -> str:
    """A secret that signs this person in once, within twelve hours."""
    EntryLink.objects.filter(created_at__lt=timezone.now() - LINK_LASTS).delete()
    secret = secrets.token_urlsafe(24)
    EntryLink.objects.create(user=user, digest=_digest(secret))
    return secret


def use_entry_link(secret: str) -> User | None:
    """The person whose link this is; the link is used up by it. None if it was used, is too old or unknown."""
    with transaction.atomic():
        link = (
            EntryLink.objects.select_for_update()
            .filter(digest=_digest(secret), created_at__gte=timezone.now() - LINK_LASTS)
            .select_related("user")
            .first()
        )
        if link is None:
            return None
        link.delete()
        return link.user


def _digest(secret: str) -> str:
    return hashlib.sha256(secret.encode()).hexdigest()
