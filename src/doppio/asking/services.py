"""Saving recipes, keeping their pipelines open, asking them."""

import json
import threading
from collections import OrderedDict
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone

from doppio.asking.models import AskedQuestion, RecipeVersion
from doppio.core.errors import DocumentError, DoppioError, RecipeError
from doppio.core.models.joint import LATE_INTERACTION
from doppio.core.models.registry import TRAINED
from doppio.core.pipeline import Pipeline
from doppio.core.recipe import Recipe, check
from doppio.core.trace import Trace
from doppio.indexing.services import models, open_meanwhile, open_pipeline
from doppio.library.models import Workspace
from doppio.library.services import RecordedTexts, seen_corpora

KEPT_OPEN = 6
OPENED_AT_ONCE = 16
TRIES = 3
NOT_BUILT = "The indexes of recipe {!r} are not built for the present documents; run its trial."


class NotBuilt(DoppioError):
    """A recipe was asked before its indexes were built."""


@dataclass(frozen=True)
class _Opened:
    pipeline: Pipeline
    complete: bool


# Workspace, corpus, recipe.
_Key = tuple[int, str, str]


class OpenPipelines:
    """The pipelines used last, opened once in this process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._opening = [threading.Lock() for _ in range(OPENED_AT_ONCE)]
        self._open: OrderedDict[_Key, _Opened] = OrderedDict()

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
                    found = self._opened(workspace, recipe, found)
                    self._keep(key, found)
        return found.pipeline

    def _found(self, key: _Key) -> _Opened | None:
        with self._lock:
            if key in self._open:
                self._open.move_to_end(key)
            return self._open.get(key)

    def _keep(self, key: _Key, found: _Opened) -> None:
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

    @staticmethod
    def _opened(workspace: Workspace, recipe: Recipe, before: _Opened | None) -> _Opened:
        whole = open_pipeline(workspace, recipe)
        if whole is not None:
            return _Opened(whole, True)
        pipeline = before.pipeline if before is not None else open_meanwhile(workspace, recipe)
        if pipeline is None:
            raise NotBuilt(NOT_BUILT.format(recipe.name))
        return _Opened(pipeline, False)


pipelines = OpenPipelines()


def absent(workspace: Workspace, pipeline: Pipeline) -> list[tuple[int, str]]:
    """Documents that are not in the index that answers, since it is still being built: primary keys and titles."""
    if pipelines.is_whole(pipeline):
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


def answered(workspace: Workspace, recipe: Recipe, text: str) -> tuple[Pipeline, Trace]:
    """Ask a question; where a document changed between opening the index and reading from it, ask again."""
    for _ in range(TRIES):
        pipeline = pipelines.get(workspace, recipe)
        try:
            return pipeline, pipeline.ask(text)
        except DocumentError:
            continue
    pipeline = pipelines.get(workspace, recipe)
    return pipeline, pipeline.ask(text)


@transaction.atomic
def save_recipe(
    workspace: Workspace, body: Any, *, user: User | None = None, note: str = "", in_force: bool = True
) -> RecipeVersion:
    """Check a recipe and save it as the next version of its name.

    A recipe with the settings of the newest version of its name is that version; nothing is saved twice.

    Raises
    ------
    RecipeError
        Names the field and what is allowed.
    """
    recipe = check(body)
    check_models(recipe)
    Workspace.objects.select_for_update().get(pk=workspace.pk)
    newest = workspace.recipes.filter(name=recipe.name).order_by("-version").first()
    if newest is not None and newest.fingerprint == recipe.fingerprint:
        saved = newest
    else:
        saved = RecipeVersion.objects.create(
            workspace=workspace,
            name=recipe.name,
            version=newest.version + 1 if newest else 1,
            body=recipe.body,
            fingerprint=recipe.fingerprint,
            note=note,
            saved_by=user,
        )
    if in_force:
        put_in_force(saved)
    return saved


def stage_kinds(recipe: Recipe) -> dict[str, str]:
    """What each stage of a recipe is, by its name in traces and trials: a branch may be called anything."""
    branches = {branch["id"]: "sparse" if branch["kind"] == "bm25" else "dense" for branch in recipe.branches}
    return {stage: branches.get(stage, stage) for stage in ("documents", "chunks", *recipe.stages)}


def check_models(recipe: Recipe) -> None:
    """Whether the encoders and the scorer that a recipe names are installed.

    Raises
    ------
    RecipeError
        Names the field and what there is.
    """
    encoders = {folder.name for folder in models.listed()} | {TRAINED}
    scorers = {folder.name for folder in models.scorers()} | {LATE_INTERACTION}
    for place, branch in enumerate(recipe.branches):
        if branch["kind"] == "vector" and branch["encoder"] not in encoders:
            raise RecipeError(f"branches[{place}].encoder: {_none_of(branch['encoder'], encoders)}")
    if recipe.rerank and recipe.rerank["scorer"] not in scorers:
        raise RecipeError(f"rerank.scorer: {_none_of(recipe.rerank['scorer'], scorers)}")


def _none_of(name: str, known: set[str]) -> str:
    return f"{name!r} is not installed; there are {', '.join(sorted(known))}"


@transaction.atomic
def put_in_force(recipe: RecipeVersion) -> None:
    """Make this the recipe that the workspace's line shows."""
    RecipeVersion.objects.filter(workspace=recipe.workspace, in_force=True).exclude(pk=recipe.pk).update(
        in_force=False
    )
    RecipeVersion.objects.filter(pk=recipe.pk).update(in_force=True)
    recipe.in_force = True


def core_recipe(recipe: RecipeVersion) -> Recipe:
    """The recipe of a version; settings that are younger than it have their defaults."""
    return _checked(json.dumps(recipe.body, sort_keys=True))


@lru_cache(maxsize=256)
def _checked(body: str) -> Recipe:
    return check(json.loads(body))


def ask(recipe: RecipeVersion, text: str, user: User | None) -> tuple[Pipeline, Trace]:
    """Ask a typed question, and remember for the person that it was asked."""
    pipeline, trace = answered(recipe.workspace, core_recipe(recipe), text)
    own = AskedQuestion.objects.filter(workspace=recipe.workspace, asked_by=user, text=text)
    if not own.update(asked_at=timezone.now(), recipe=recipe):
        AskedQuestion.objects.create(workspace=recipe.workspace, recipe=recipe, text=text, asked_by=user)
    return pipeline, trace


def forget_asked(sender: object, now: datetime, **_: object) -> None:
    """Throw away typed questions that are older than the settings keep them."""
    AskedQuestion.objects.filter(asked_at__lt=now - timedelta(days=settings.DOPPIO_KEEP_ASKED_DAYS)).delete()
