"""Which documents a workspace holds at a moment, for the core."""

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from doppio.core.text.document import Block, corpus_key
from doppio.core.text.document import Document as CoreDocument
from doppio.core.text.outline import Section as CoreSection
from doppio.core.text.pictures import Picture
from doppio.library.models import Document, Workspace
from doppio.library.planned import planned_once


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
        return Corpus(
            tuple(self.documents[position] for position in positions),
            tuple(self.names[position] for position in positions),
            tuple(self.digests[position] for position in positions),
        )


def corpus_now(workspace: Workspace) -> Corpus:
    """The workspace's documents as they are now; one query, so all of it is of one moment."""
    rows = list(workspace.documents.order_by("name").values_list("pk", "name", "digest"))
    documents, names, digests = zip(*rows, strict=True) if rows else ((), (), ())
    return Corpus(documents, names, digests)


class SeenCorpora:
    """Corpora that were read lately, so that a question does not read the whole list of documents.

    Whether one is still true is told by the stamps that changes of documents leave; see `CorpusChange`.
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
        with planned_once() as cursor:
            cursor.execute(
                "SELECT count(*), coalesce(sum(hashint8extended(stamp, 7)), 0)::text "
                "FROM library_corpuschange WHERE workspace_id = %s",
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
        tuple(Picture.from_json(picture) for picture in row.pictures),
    )
