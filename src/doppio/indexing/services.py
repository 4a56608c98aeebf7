"""Building what a recipe needs over a workspace, and opening it."""

from django.conf import settings

from doppio.core.artifacts import ArtifactStore
from doppio.core.build import Builder, Models
from doppio.core.chunking.table import ChunkTable
from doppio.core.errors import ArtifactDamaged, DoppioError
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe import Recipe
from doppio.core.text.document import corpus_fingerprint
from doppio.indexing.models import Index
from doppio.library.models import Chunking, Workspace
from doppio.library.services import RecordedTexts, core_documents, corpus_of, record_chunks

models = Models(settings.DOPPIO_MODELS)


def builder(progress: Progress | None = None) -> Builder:
    """The core's builder over this installation's artifacts and models."""
    return Builder(ArtifactStore(settings.DOPPIO_ARTIFACTS), models, progress or Silent())


def build(workspace: Workspace, recipe: Recipe, progress: Progress) -> Pipeline:
    """Build what is missing or damaged for a recipe, record it, and open the pipeline."""
    core = builder(progress)
    corpus = corpus_of(workspace)
    keys = core.keys(corpus, recipe)
    try:
        table = core.table(corpus, recipe)
    except (FileNotFoundError, ArtifactDamaged):
        documents = core_documents(workspace)
        if corpus_fingerprint(documents) != corpus:
            raise DoppioError("The documents changed while the build began; run it again.") from None
        table = core.chunks(documents, corpus, recipe)
    chunking = record_chunks(workspace, keys.chunks, recipe.chunking, table)
    texts = RecordedTexts(chunking.pk, recipe.chunking["context"])
    core.indexes(corpus, recipe, table, texts)
    pipeline = core.open(corpus, recipe, texts, table)
    for kind, key in keys.listed():
        size, meta = core.store.describe(kind, key)
        Index.objects.update_or_create(
            chunking=chunking, kind=kind, key=key, defaults={"bytes": size, "meta": dict(meta)}
        )
    _forget_superseded(workspace, keys.listed(), core)
    return pipeline


def _forget_superseded(workspace: Workspace, kept: list[tuple[str, str]], core: Builder) -> None:
    """Delete artifacts of the same families that were built over documents which are no more.

    What another chunking of any workspace still names stays; so do the youngest of each family, which the next
    build takes its unchanged entries from.
    """
    named = set(Chunking.objects.values_list("key", flat=True)) | set(Index.objects.values_list("key", flat=True))
    for kind, key in kept:
        family = core.store.describe(kind, key)[1].get("family")
        for other in core.store.keys(kind, str(family)):
            if other != key and other not in named:
                core.store.remove(kind, other)


def is_built(workspace: Workspace, recipe: Recipe) -> bool:
    """Whether a recipe can be asked at once."""
    core = builder()
    keys = core.keys(corpus_of(workspace), recipe)
    return not core.missing(keys) and workspace.chunkings.filter(key=keys.chunks).exists()


def chunking_of(workspace: Workspace, recipe: Recipe) -> Chunking | None:
    """The recorded chunking of a recipe, or None before it is built."""
    keys = builder().keys(corpus_of(workspace), recipe)
    return workspace.chunkings.filter(key=keys.chunks).first()


def chunk_table(workspace: Workspace, recipe: Recipe) -> ChunkTable:
    """The chunk table of a built recipe, mapped from disk."""
    return builder().table(corpus_of(workspace), recipe)
