"""Recipes: saved, put in force, and what they would cost to build."""

from typing import Any

from django.db import transaction
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.models.registry import TRAINED, TRAINED_TITLE
from doppio.core.recipe.check import check
from doppio.core.reranking.kind import unheard
from doppio.jobs.serializers import JobSerializer
from doppio.library.access import person, workspace_of
from doppio.library.events import IN_FORCE, note
from doppio.library.models import Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.recipes.access import recipe_for
from doppio.recipes.builds import models
from doppio.recipes.cost import cost
from doppio.recipes.models import RecipeVersion
from doppio.recipes.serializers import (
    CostSerializer,
    EncoderSerializer,
    NewRecipeSerializer,
    RecipeBodySerializer,
    RecipeSerializer,
    SavedRecipeSerializer,
)
from doppio.recipes.services import put_in_force, save_recipe
from doppio.recipes.signals import in_force


class RecipesView(APIView):
    @extend_schema(responses=RecipeSerializer(many=True), operation_id="recipes")
    def get(self, request: Request, workspace: int) -> Response:
        rows = workspace_of(request).recipes.order_by("name", "-version")
        return Response(RecipeSerializer(rows, many=True).data)


class RecipeSaveView(APIView):
    @extend_schema(
        request=NewRecipeSerializer, responses={201: SavedRecipeSerializer, 400: PROBLEM}, operation_id="saveRecipe"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Save a recipe as a new version, put it in force and measure it."""
        space = workspace_of(request)
        given = NewRecipeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        before = _named_in_force(space)
        with transaction.atomic():
            saved = save_recipe(
                space, given.validated_data["body"], user=person(request), note=given.validated_data["note"]
            )
            note(IN_FORCE, request, workspace=space, before=before, after=_named(saved))
        return Response(_in_force(saved, request), status=201)


class RecipeInForceView(APIView):
    @extend_schema(request=None, responses=SavedRecipeSerializer, operation_id="putInForce")
    def post(self, request: Request, workspace: int, recipe: int) -> Response:
        """Put a saved recipe in force; it is measured if it has no trial on the present documents."""
        space = workspace_of(request)
        found = recipe_for(space, recipe)
        before = _named_in_force(space)
        with transaction.atomic():
            put_in_force(found)
            note(IN_FORCE, request, workspace=space, before=before, after=_named(found))
        return Response(_in_force(found, request))


def _named(recipe: RecipeVersion) -> dict[str, Any]:
    return {"name": recipe.name, "version": recipe.version}


def _named_in_force(workspace: Workspace) -> dict[str, Any] | None:
    found = workspace.recipes.filter(in_force=True).first()
    return _named(found) if found is not None else None


def _in_force(recipe: RecipeVersion, request: Request) -> dict[str, Any]:
    """The recipe, and the job that measures it where it has no trial on the present documents."""
    started = [job for _, job in in_force.send(RecipeVersion, recipe=recipe, user=person(request)) if job is not None]
    job = started[0] if started else None
    return {"recipe": RecipeSerializer(recipe).data, "job": JobSerializer(job).data if job else None}


class EncodersView(APIView):
    @extend_schema(responses=EncoderSerializer(many=True), operation_id="encoders")
    def get(self, request: Request) -> Response:
        """Encoders that a recipe can name."""
        trained = {
            "name": TRAINED, "title": TRAINED_TITLE, "dimension": None, "max_tokens": None, "made_for": "questions",
            "warning": "", "remote": False,
        }  # fmt: skip
        return Response([*encoders_listed(), trained])


class CostView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=RecipeBodySerializer, responses={200: CostSerializer, 400: PROBLEM}, operation_id="buildCost"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """What building a recipe would take now; nothing is built."""
        given = RecipeBodySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        recipe = check(given.validated_data["body"])
        remarks = recipe.remarks + unheard(recipe.scorers, recipe.select, models)
        return Response({**cost(workspace_of(request), recipe), "remarks": remarks})


def encoders_listed() -> list[dict[str, Any]]:
    """Encoders that a recipe can name."""
    return [
        {
            "name": folder.name,
            "title": folder.title,
            "dimension": folder.dimension,
            "max_tokens": folder.max_tokens,
            "made_for": folder.made_for,
            "warning": folder.warning,
            "remote": folder.kind != "encoder",
        }
        for folder in models.listed()
    ]
