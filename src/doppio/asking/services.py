"""Saving recipes, keeping their pipelines open, asking them."""

import json
import threading
from collections import OrderedDict
from functools import lru_cache
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from doppio.asking.models import AskedQuestion, RecipeVersion
from doppio.core.errors import DoppioError
from doppio.core.pipeline import Pipeline
from doppio.core.recipe import Recipe, check
from doppio.core.trace import Trace
from doppio.indexing.services import is_built, open_pipeline
from doppio.library.models import Workspace
from doppio.library.services import corpus_of

KEPT_OPEN = 6


class NotBuilt(DoppioError):
    """A recipe was asked before its indexes were built."""


class OpenPipelines:
    """The pipelines used last, opened once in this process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._open: OrderedDict[tuple[int, str, str], Pipeline] = OrderedDict()

    def get(self, workspace: Workspace, recipe: Recipe) -> Pipeline:
        """The opened pipeline of a recipe.

        Raises
        ------
        NotBuilt
            If its indexes are not there yet.
        ArtifactDamaged
            If one of them is not what was written.
        """
        corpus = corpus_of(workspace)
        key = (workspace.pk, corpus, recipe.fingerprint)
        with self._lock:
            if key in self._open:
                self._open.move_to_end(key)
                return self._open[key]
            if not is_built(workspace, recipe):
                raise NotBuilt(
                    f"The indexes of recipe {recipe.name!r} are not built for the present documents; run its trial."
                )
            self._open[key] = open_pipeline(workspace, recipe)
            while len(self._open) > KEPT_OPEN:
                self._open.popitem(last=False)
            return self._open[key]


pipelines = OpenPipelines()


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
    """Ask a typed question and keep its trace."""
    pipeline = pipelines.get(recipe.workspace, core_recipe(recipe))
    trace = pipeline.ask(text)
    AskedQuestion.objects.create(
        workspace=recipe.workspace, recipe=recipe, text=text, trace=trace.to_json(), asked_by=user
    )
    return pipeline, trace
