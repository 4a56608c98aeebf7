"""Saving recipes and putting them in force."""

import json
from functools import lru_cache
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from doppio.core.branches.kind import kind_of
from doppio.core.errors import RecipeError
from doppio.core.kinds import ENCODER, Settings
from doppio.core.models.registry import TRAINED
from doppio.core.recipe.check import check, read_recipe
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import COMMON, kind_of_scorer, offered
from doppio.library.models import Workspace
from doppio.recipes.builds import models
from doppio.recipes.fitted import at_hand
from doppio.recipes.models import RecipeVersion

# What a new workspace begins with: of the shipped parts, these measured best on manuals that nobody tuned to.
STARTING = Path(__file__).with_name("starting.json")


def begin_with(sender: object, workspace: Workspace, user: User, **_: object) -> None:
    """Give a new workspace a recipe to begin with."""
    save_recipe(workspace, read_recipe(STARTING).body, user=user, note="to begin with")


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
    if newest is not None and core_recipe(newest).fingerprint == recipe.fingerprint:
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


def take_along(sender: object, before: Workspace, after: Workspace, **_: object) -> None:
    """Give a workspace that was emptied its recipes."""
    names = ("name", "version", "body", "fingerprint", "note", "in_force", "saved_by_id")
    for values in before.recipes.order_by("pk").values(*names):
        RecipeVersion.objects.create(workspace=after, **values)


def counted(sender: object, workspace: Workspace, **_: object) -> dict[str, int]:
    """How many recipes a workspace holds."""
    return {"recipes": workspace.recipes.count()}


def check_models(recipe: Recipe) -> None:
    """Whether the encoders and the scorer that a recipe names are installed.

    Raises
    ------
    RecipeError
        Names the field and what there is.
    """
    encoders = {folder.name for folder in models.listed()} | {TRAINED}
    for place, branch in enumerate(recipe.branches):
        for setting in kind_of(branch).settings:
            if setting.schema.get("format") == ENCODER and branch[setting.name] not in encoders:
                wrong = _none_of(branch[setting.name], encoders)
                raise RecipeError(f"branches[{place}].{setting.name}: {wrong}")
    if recipe.rerank and "scorers" in recipe.rerank:
        common = {"scorers", *(setting.name for setting in COMMON)}
        for name in recipe.rerank:
            if name not in common:
                raise RecipeError(
                    f"rerank.{name}: several scorers have no such setting; it stands beside one of them"
                )
        for place, one in enumerate(recipe.scorers):
            _check_scorer(one, f"rerank.scorers[{place}]", {"scorer", "weight"})
    elif recipe.rerank:
        _check_scorer(recipe.rerank, "rerank", {"scorer", *(setting.name for setting in COMMON)})


def _check_scorer(told: Settings, path: str, common: set[str]) -> None:
    scorers = {one.name for _, one in offered(models)}
    if told["scorer"] not in scorers:
        raise RecipeError(f"{path}.scorer: {_none_of(told['scorer'], scorers)}")
    known = {*common, *(one.name for one in kind_of_scorer(told["scorer"], models).settings)}
    for name in told:
        if name not in known:
            raise RecipeError(
                f"{path}.{name}: {told['scorer']} has no such setting; it has {', '.join(sorted(known))}"
            )


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
    at_hand(recipe.body, recipe.workspace_id, models)
    return _checked(json.dumps(recipe.body, sort_keys=True))


@lru_cache(maxsize=256)
def _checked(body: str) -> Recipe:
    return check(json.loads(body))


def stage_kinds(recipe: Recipe) -> dict[str, str]:
    """What each stage of a recipe is, by its name in traces and trials: a branch may be called anything."""
    families = {branch["id"]: kind_of(branch).family for branch in recipe.branches}
    return {stage: families.get(stage, stage) for stage in ("documents", "chunks", *recipe.stages)}
