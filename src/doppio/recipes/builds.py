"""Building what a recipe needs over a workspace, and opening it."""

import contextlib
import threading
import time
from functools import cache

from django.conf import settings
from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from doppio.core.build.builder import Builder
from doppio.core.build.keys import Keys
from doppio.core.chunking.table import ChunkTable
from doppio.core.errors import ArtifactDamaged, Cancelled, DoppioError
from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe.recipe import Recipe
from doppio.core.store.crew import Alone, Crew
from doppio.core.store.segments import MOST_CHUNKS
from doppio.core.text.document import corpus_fingerprint
from doppio.library.corpus import Corpus, core_documents, corpus_now, corpus_of, seen_corpora
from doppio.library.models import Workspace
from doppio.library.texts import RecordedTexts
from doppio.machines.crew import DaskCrew
from doppio.machines.shards import spread_over
from doppio.recipes.artifacts import store
from doppio.recipes.models import Chunking, Index

# Bytes a second that a look through all artifacts reads: it stays out of everybody's way.
LOOKED_AT = 8 << 20
# The name of the task.
COMPACT = "compact"
models = Models(settings.DOPPIO_MODELS)


def builder(progress: Progress | None = None) -> Builder:
    """The core's builder over this installation's artifacts and models."""
    return Builder(store(), models, progress or Silent(), crew(), settings.DOPPIO_SEGMENT_CHUNKS or MOST_CHUNKS)


@cache
def _crew_at(address: str) -> Crew:
    return DaskCrew(address) if address else Alone()


def crew() -> Crew:
    """Who builds: this machine, or the workers of a cluster where one is named."""
    return _crew_at(settings.DOPPIO_DASK)


def build(workspace: Workspace, recipe: Recipe, progress: Progress, snapshot: Corpus | None = None) -> Pipeline:
    """Build what is missing or damaged for a recipe, record it, and open the pipeline.

    Parameters
    ----------
    snapshot : Corpus or None
        The documents to build over; those of this moment where it is None. All of the build stands on it.

    Raises
    ------
    DoppioError
        If one of them changes or goes before its texts are read; nothing is written of what was read after that.
    """
    core = builder(progress)
    snapshot = snapshot or corpus_now(workspace)
    corpus = snapshot.key
    keys = core.keys(corpus, recipe)
    try:
        table = core.open_list(keys.chunks).table()
    except (FileNotFoundError, ArtifactDamaged):
        documents = core_documents(workspace)
        if corpus_fingerprint(documents) != corpus:
            raise DoppioError("The documents changed while the build began; run it again.") from None
        table = core.chunks(documents, corpus, recipe)
    record_chunking(workspace, keys.chunks, recipe.chunking, len(table))
    texts = RecordedTexts(snapshot, table, recipe.chunking["context"])
    begun = time.perf_counter()
    lacking = bool(core.missing(keys))
    core.indexes(corpus, recipe, texts)
    pipeline = core.open_keys(keys, recipe, lambda _: texts)
    seconds = round(time.perf_counter() - begun, 3) if lacking else None
    with transaction.atomic():
        # The record may have gone meanwhile, with one of another state of the documents.
        Workspace.objects.select_for_update().get(pk=workspace.pk)
        chunking = record_chunking(workspace, keys.chunks, recipe.chunking, len(table))
        for row in core.describe(keys):
            known = Index.objects.filter(chunking=chunking, kind=row.kind, key=row.of).first()
            took = seconds if seconds is not None or known is None else known.meta.get("seconds")
            Index.objects.update_or_create(
                chunking=chunking, kind=row.kind, key=row.of,
                defaults={"bytes": row.bytes, "meta": {**row.facts, "seconds": took}},
            )  # fmt: skip
        # What answered meanwhile has done its service.
        workspace.chunkings.filter(settings=recipe.chunking).exclude(pk=chunking.pk).delete()
    core.forget(set(Chunking.objects.values_list("key", flat=True)))
    if core.wants_compaction(keys.chunks):
        queue_compaction()
    return pipeline


def queue_compaction() -> None:
    """Have the worker do the upkeep of what is built."""
    # A savepoint of its own: one that waits already is told by a failed statement.
    with contextlib.suppress(AlreadyEnqueued), transaction.atomic():
        app.configure_task(COMPACT).defer()


def compact() -> int:
    """Merge segments of every reading list where that is due; returns how many went into another."""
    core = builder()
    merged = sum(core.compact(key) for key, _ in core.lists.youngest_first() if core.wants_compaction(key))
    core.forget(set(Chunking.objects.values_list("key", flat=True)))
    return merged


def look_through(sender: object, stopping: threading.Event, **_: object) -> list[str]:
    """What is wrong with artifacts on disk, and how it is mended."""
    return [f"{damage}; the recipe's next trial builds it again" for damage in damaged(stopping)]


def damaged(stopping: threading.Event, rate: float = LOOKED_AT) -> list[str]:
    """Artifacts on disk that are not what was written; read at most at so many bytes a second, until told to stop."""

    def read(count: int) -> None:
        if stopping.wait(count / rate):
            raise Cancelled("stopped")

    with contextlib.suppress(Cancelled):
        return builder().store.look_through(read)
    return []


def is_built(workspace: Workspace, recipe: Recipe) -> bool:
    """Whether a recipe can be asked at once."""
    core = builder()
    return _is_there(workspace, core, core.keys(seen_corpora.now(workspace).key, recipe))


def _is_there(workspace: Workspace, core: Builder, keys: Keys) -> bool:
    return not core.missing(keys) and workspace.chunkings.filter(key=keys.chunks).exists()


def chunking_of(workspace: Workspace, recipe: Recipe) -> Chunking | None:
    """The recorded chunking of a recipe, or None before it is built."""
    keys = builder().keys(corpus_of(workspace), recipe)
    return workspace.chunkings.filter(key=keys.chunks).first()


def indexes_of(workspace: Workspace, recipe: Recipe) -> dict[str, list[Index]]:
    """Records of a built recipe's own indexes by branch id; other recipes may have others over the same chunks."""
    keys = builder().keys(corpus_of(workspace), recipe)
    known = {
        (row.kind, row.key): row
        for row in Index.objects.filter(chunking__workspace=workspace, chunking__key=keys.chunks)
    }
    return {
        identity: [known[piece.kind, piece.of] for piece in own if (piece.kind, piece.of) in known]
        for identity, own in ((name, needs.pieces.values()) for name, needs in keys.branches.items())
    }


def open_pipeline(workspace: Workspace, recipe: Recipe, *, spread: bool = False) -> Pipeline | None:
    """The pipeline of a recipe; None where it is not built for the documents of this moment.

    With `spread` its segments are opened on the workers of the cluster where one is named.
    """
    core, snapshot = builder(), seen_corpora.now(workspace)
    found = crew()
    if spread and isinstance(found, DaskCrew):
        core.spread = spread_over(found, settings.DOPPIO_COPIES)
    keys = core.keys(snapshot.key, recipe)
    if not _is_there(workspace, core, keys):
        return None
    return core.open_keys(keys, recipe, lambda table: RecordedTexts(snapshot, table, recipe.chunking["context"]))


def open_meanwhile(workspace: Workspace, recipe: Recipe) -> Pipeline | None:
    """A pipeline over those of the workspace's documents whose index is complete; None where there is none.

    It answers while the others are cut and indexed. Its texts' corpus says which documents are in it.
    """
    core, snapshot = builder(), corpus_now(workspace)
    held = core.held(snapshot.digests, recipe)
    if held is None:
        return None
    texts = RecordedTexts(snapshot.only(held.documents), held.opened.table(), recipe.chunking["context"])
    return core.open_held(held, recipe, texts)


def chunk_table(workspace: Workspace, recipe: Recipe) -> ChunkTable:
    """The chunk table of a built recipe, mapped from disk."""
    return builder().table(corpus_of(workspace), recipe)


def chunks_of(workspace: Workspace, recipe: Recipe, document: int) -> list[dict[str, int]]:
    """The chunks of one document under a recipe; none before it is built."""
    snapshot = corpus_now(workspace)
    core = builder()
    if not workspace.chunkings.filter(key=core.keys(snapshot.key, recipe).chunks).exists():
        return []
    table = core.table(snapshot.key, recipe)
    rows = table.of_document(snapshot.documents.index(document))
    columns = [getattr(table, name)[rows].tolist() for name in ("start", "end", "tokens")]
    return [
        {"number": number, "start": start, "end": end, "tokens": tokens}
        for number, start, end, tokens in zip(range(rows.start, rows.stop), *columns, strict=True)
    ]


def record_chunking(workspace: Workspace, key: str, settings: dict, chunks: int) -> Chunking:
    """Keep a record of how the corpus was cut; the chunks themselves are an artifact."""
    found, _ = workspace.chunkings.get_or_create(key=key, defaults={"settings": settings, "count": chunks})
    return found
