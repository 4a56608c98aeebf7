"""Pipelines that are kept open, and asked."""

import logging
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from django.conf import settings
from django.db.models.functions import Left

from doppio.core.errors import DocumentError, DoppioError, NobodyAnswers
from doppio.core.pipeline import Pipeline
from doppio.core.question.reading import NOTHING_BESIDE, Beside
from doppio.core.recipe.recipe import Recipe
from doppio.core.trace import Trace
from doppio.library.corpus import seen_corpora
from doppio.library.models import Workspace
from doppio.library.texts import RecordedTexts
from doppio.recipes.builds import open_meanwhile, open_pipeline

log = logging.getLogger(__name__)
T = TypeVar("T")
KEPT_OPEN = 6
OPENED_AT_ONCE = 16
TRIES = 3
NOT_BUILT = "The indexes of recipe {!r} are not built for the present documents; run its trial."


class NotBuilt(DoppioError):
    """A recipe was asked before its indexes were built."""


@dataclass(frozen=True)
class _Pipeline:
    pipeline: Pipeline
    complete: bool


# Workspace, corpus, recipe.
_Key = tuple[int, str, str]


class OpenPipelines:
    """The pipelines used last, opened once in this process.

    Parameters
    ----------
    spread : bool
        Whether their segments stand on the workers of a cluster.
    """

    def __init__(self, *, spread: bool = False) -> None:
        self.spread = spread
        self._lock = threading.Lock()
        self._opening = [threading.Lock() for _ in range(OPENED_AT_ONCE)]
        self._open: OrderedDict[_Key, _Pipeline] = OrderedDict()

    def get(self, workspace: Workspace, recipe: Recipe) -> Pipeline:
        """The opened pipeline of a recipe.

        While documents that came or changed are not indexed, it is one over the others; see `absent`.

        Raises
        ------
        NotBuilt
            If nothing of its indexes is there yet.
        ArtifactDamaged
            If one of them is not what was written.
        """
        key = (workspace.pk, seen_corpora.now(workspace).key, recipe.fingerprint)
        found = self._found(key)
        if found is None or not found.complete:
            # Whoever opens keeps those waiting that may want the same, and nobody else.
            with self._opening[hash(key) % len(self._opening)]:
                found = self._found(key)
                if found is None or not found.complete:
                    found = self._open_now(workspace, recipe, found)
                    self._keep(key, found)
        return found.pipeline

    def _found(self, key: _Key) -> _Pipeline | None:
        with self._lock:
            if key in self._open:
                self._open.move_to_end(key)
            return self._open.get(key)

    def _keep(self, key: _Key, found: _Pipeline) -> None:
        with self._lock:
            self._open[key] = found
            self._open.move_to_end(key)
            while len(self._open) > KEPT_OPEN:
                self._open.popitem(last=False)

    def is_whole(self, pipeline: Pipeline) -> bool:
        """Whether a pipeline that was got here is over all documents that there were then."""
        with self._lock:
            return any(found.pipeline is pipeline and found.complete for found in self._open.values())

    def whole(self, workspace: Workspace, recipe: Recipe) -> Pipeline:
        """The same over all documents, for what goes by the numbers of the chunks in a trial.

        Raises
        ------
        NotBuilt
            If one of them is not indexed yet.
        """
        pipeline = self.get(workspace, recipe)
        if absent(workspace, pipeline):
            raise NotBuilt(NOT_BUILT.format(recipe.name))
        return pipeline

    def _open_now(self, workspace: Workspace, recipe: Recipe, before: _Pipeline | None) -> _Pipeline:
        whole = open_pipeline(workspace, recipe, spread=self.spread)
        if whole is not None:
            return _Pipeline(whole, True)
        pipeline = before.pipeline if before is not None else open_meanwhile(workspace, recipe)
        if pipeline is None:
            raise NotBuilt(NOT_BUILT.format(recipe.name))
        return _Pipeline(pipeline, False)


pipelines = OpenPipelines()
# Those that assistants ask: where segments are kept on workers, they are asked there.
served_pipelines = OpenPipelines(spread=True) if settings.DOPPIO_COPIES else pipelines


def asked_by(workspace: Workspace, recipe: Recipe, ask: Callable[[Pipeline], T]) -> T:
    """What comes of asking the pipeline of assistants, or this machine's own where no worker that holds segments
    answers, be it when it is opened or when it is asked."""
    try:
        return ask(served_pipelines.get(workspace, recipe))
    except NobodyAnswers as error:
        if served_pipelines is pipelines:
            raise
        log.warning("%s is asked on this machine: %s", recipe.name, error)
        return ask(pipelines.get(workspace, recipe))


def to_be_asked(workspace: Workspace, recipe: Recipe) -> Pipeline:
    """The pipeline that assistants ask; see `asked_by`."""
    return asked_by(workspace, recipe, lambda pipeline: pipeline)


def warming(workspace: Workspace) -> str:
    """A question that has to be searched for, since its words stand in a document: one that finds nothing leaves most
    of what the first person's question needs still to be loaded."""
    text = workspace.documents.order_by("pk").values_list(Left("text", 400), flat=True).first() or ""
    # A word that is cut off in its middle stands nowhere.
    return " ".join(text.split()[:-1][-6:]) or "warm up"


def absent(workspace: Workspace, pipeline: Pipeline) -> list[tuple[int, str]]:
    """Documents that are not in the index that answers, since it is still being built: primary keys and titles."""
    if pipelines.is_whole(pipeline) or served_pipelines.is_whole(pipeline):
        return []
    assert isinstance(pipeline.texts, RecordedTexts)
    present, answering = seen_corpora.now(workspace), pipeline.texts.corpus
    if present.key == answering.key:
        return []
    digests = set(zip(answering.documents, answering.digests, strict=True))
    missing = [
        number
        for number, digest in zip(present.documents, present.digests, strict=True)
        if (number, digest) not in digests
    ]
    return list(workspace.documents.filter(pk__in=missing).order_by("name").values_list("pk", "title"))


def answered(
    workspace: Workspace, recipe: Recipe, text: str, beside: Beside = NOTHING_BESIDE
) -> tuple[Pipeline, Trace]:
    """Ask a question; where a document changed between opening the index and reading from it, ask again."""
    for _ in range(TRIES):
        pipeline = pipelines.get(workspace, recipe)
        try:
            return pipeline, pipeline.ask(text, beside)
        except DocumentError:
            continue
    pipeline = pipelines.get(workspace, recipe)
    return pipeline, pipeline.ask(text, beside)
