"""Publishing recipes under names, putting other versions behind them, and taking them down."""

import re
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from doppio.core.errors import DoppioError
from doppio.library.models import Workspace
from doppio.recipes.builds import is_built
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe
from doppio.serving.models import Published, Release
from doppio.serving.redaction import check_rules
from doppio.trials.services import latest_trial, start_trial

NAME = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,58}[a-z0-9])?")
LONGEST_KEEP = 3650


@transaction.atomic
def publish(recipe: RecipeVersion, name: str, user: User | None) -> Published:
    """Put a recipe version behind a name that nobody has yet.

    Raises
    ------
    DoppioError
        If the name is none or taken, or the recipe is not built.
    """
    if not NAME.fullmatch(name):
        raise DoppioError(
            f"name: {name!r} is none; it has 1 to 60 small letters, digits and hyphens, none of these at its ends"
        )
    if Published.objects.filter(name=name).exists():
        raise DoppioError(f"name: {name!r} is published already, here or in another workspace; choose another")
    _check_built(recipe)
    made = Published.objects.create(workspace=recipe.workspace, name=name, recipe=recipe, made_by=user)
    Release.objects.create(published=made, recipe=recipe, by=user)
    return made


@transaction.atomic
def release(published: Published, recipe: RecipeVersion, user: User | None, *, back: bool = False) -> Release:
    """Put another version behind a name; every server process opens it beside the old one before it answers.

    Raises
    ------
    DoppioError
        If it is the one that answers already, or it is not built.
    """
    published = Published.objects.select_for_update().get(pk=published.pk)
    if published.recipe_id == recipe.pk:
        raise DoppioError(f"recipe: {told(recipe)} answers under {published.name} already")
    _check_built(recipe)
    published.recipe = recipe
    if published.second_id == recipe.pk:
        # Nothing is left to be compared with.
        published.second, published.use, published.share = None, Published.APART, 0.0
    published.save()
    return Release.objects.create(published=published, recipe=recipe, by=user, back=back)


def before(published: Published) -> RecipeVersion | None:
    """The version that answered before the present one."""
    found = published.releases.exclude(recipe=published.recipe_id).select_related("recipe").first()
    return found.recipe if found else None


@transaction.atomic
def put_beside(published: Published, recipe: RecipeVersion | None, use: str, share: float) -> Published:
    """Have a second version asked beside the first, or answer a share of the keys; None ends it.

    Raises
    ------
    DoppioError
        If it is the first, is not built, or the share is none.
    """
    published = Published.objects.select_for_update().get(pk=published.pk)
    if recipe is None or use == Published.APART:
        published.second, published.use, published.share = None, Published.APART, 0.0
    else:
        if recipe.pk == published.recipe_id:
            raise DoppioError("recipe: the second version must be another than the one that answers")
        if not 0 < share <= 1:
            raise DoppioError(f"share: {share:g} is not above 0 and at most 1")
        _check_built(recipe)
        published.second, published.use, published.share = recipe, use, share
    published.save()
    return published


@transaction.atomic
def keep(published: Published, days: int, rules: list[str]) -> Published:
    """Say for how long words of questions are kept, and what is taken out of them before.

    Raises
    ------
    DoppioError
        If the days are out of range or a rule cannot be read.
    """
    if not 0 <= days <= LONGEST_KEEP:
        raise DoppioError(f"keep_days: {days} is not between 0 and {LONGEST_KEEP}")
    published.redact = check_rules(rules)
    published.keep_days = days
    published.save(update_fields=["keep_days", "redact"])
    if not days:
        published.served.exclude(question="").update(question="")
    return published


def told(recipe: RecipeVersion) -> str:
    """A version as people name it."""
    return f"{recipe.name} v{recipe.version}"


def _check_built(recipe: RecipeVersion) -> None:
    if not is_built(recipe.workspace, core_recipe(recipe)):
        raise DoppioError(
            f"recipe: {told(recipe)} is not built for the present documents; measure it first, on the Trials page"
        )


def build_published(sender: object, workspace: Workspace, **_: object) -> None:
    """Build what is published once the documents have changed, as what is in force is."""
    for published in workspace.published.select_related("recipe", "second"):
        for recipe in (published.recipe, published.second):
            if recipe is not None and workspace.documents.exists() and latest_trial(recipe) is None:
                start_trial(recipe, None)


def take_along(sender: object, before: Workspace, after: Workspace, **_: object) -> None:
    """Names and keys outlive an emptying: assistants are told that nothing is found, and not that nobody is there."""
    versions = {(one.name, one.version): one for one in after.recipes.all()}
    for published in before.published.select_related("recipe", "second"):
        published.workspace = after
        published.recipe = versions[published.recipe.name, published.recipe.version]
        if published.second is not None:
            published.second = versions[published.second.name, published.second.version]
        published.save()
        published.releases.all().delete()
        Release.objects.create(published=published, recipe=published.recipe)
        published.served.all().delete()
        published.opened.all().delete()


def counted(sender: object, workspace: Workspace, **_: object) -> dict[str, Any]:
    """How many names a workspace answers under."""
    return {"published": workspace.published.count()}
