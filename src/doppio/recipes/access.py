"""The recipe that a request is about."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter

from doppio.core.errors import RecipeError
from doppio.library.models import Workspace
from doppio.recipes.models import RecipeVersion

RECIPE = OpenApiParameter("recipe", int, description="A recipe; the one in force where it is left out.")


def recipe_for(workspace: Workspace, number: int | str | None) -> RecipeVersion:
    """A recipe of the workspace by its number, or the one in force."""
    if number:
        if not str(number).isdecimal():
            raise RecipeError(f"recipe: {number!r} is not the number of a recipe")
        return get_object_or_404(workspace.recipes.select_related("workspace"), pk=number)
    return get_object_or_404(workspace.recipes.select_related("workspace"), in_force=True)
