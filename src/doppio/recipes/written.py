"""Texts of segments that were built when none were written, and texts of documents that are gone."""

import contextlib
from collections.abc import Iterator

from doppio.core.build.builder import Builder
from doppio.core.build.keys import Keys
from doppio.core.errors import DoppioError
from doppio.core.recipe.recipe import Recipe
from doppio.library.corpus import Corpus, corpus_now
from doppio.library.models import Document, Workspace
from doppio.library.texts import RecordedTexts
from doppio.recipes.builds import builder, queue_compaction
from doppio.recipes.services import core_recipe


def queue_writing(sender: object = None, **_: object) -> None:
    """Have those written that are not; nobody has to wait for it."""
    if next(_unwritten(builder()), None):
        queue_compaction()


def forget_texts(sender: object = None, **_: object) -> int:
    """Leave out those of documents that are in no workspace any more; returns of how many segments."""
    return builder().forget_texts(set(Document.objects.values_list("digest", flat=True)))


def write_texts() -> int:
    """Write those that are not; returns of how many segments."""
    core, count = builder(), 0
    for keys, recipe, snapshot in _unwritten(core):
        texts = RecordedTexts(snapshot, core.open_list(keys.chunks).table(), recipe.chunking["context"])
        count += core.write_texts(keys, recipe, texts)
    return count


def _unwritten(core: Builder) -> Iterator[tuple[Keys, Recipe, Corpus]]:
    """The lists over documents as they are now that lack texts, each once."""
    seen: set[str] = set()
    for workspace in Workspace.objects.order_by("pk"):
        snapshot = corpus_now(workspace)
        for row in workspace.recipes.order_by("pk"):
            # A recipe that cannot be read, or whose model is gone, is told of where it is asked.
            with contextlib.suppress(DoppioError):
                recipe = core_recipe(row)
                keys = core.keys(snapshot.key, recipe)
                if keys.chunks not in seen and core.lacks_texts(keys):
                    yield keys, recipe, snapshot
                seen.add(keys.chunks)
