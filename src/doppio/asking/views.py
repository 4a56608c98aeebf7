"""Recipes, and how a passage was matched token by token."""

from dataclasses import replace

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiResponse, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.asking.explain import explained
from doppio.asking.models import RecipeVersion
from doppio.asking.serializers import (
    ExplainedSerializer,
    ExplainRequestSerializer,
    MatchRequestSerializer,
    ProblemSerializer,
    RecipeSerializer,
    TokenMatchSerializer,
)
from doppio.asking.services import core_recipe, pipelines
from doppio.core.errors import RecipeError
from doppio.core.models.joint import LateInteraction, Passage
from doppio.core.pipeline import Pipeline
from doppio.library.access import workspace_for
from doppio.library.models import Workspace
from doppio.library.turns import ASKING, HEAVY

PROBLEM = OpenApiResponse(ProblemSerializer)


def recipe_for(workspace: Workspace, number: int | str | None) -> RecipeVersion:
    """A recipe of the workspace by its number, or the one in force."""
    if number:
        if not str(number).isdecimal():
            raise RecipeError(f"recipe: {number!r} is not the number of a recipe")
        return get_object_or_404(workspace.recipes.select_related("workspace"), pk=number)
    return get_object_or_404(workspace.recipes.select_related("workspace"), in_force=True)


class MatchesView(APIView):
    @extend_schema(
        request=MatchRequestSerializer,
        responses={200: TokenMatchSerializer(many=True), 400: PROBLEM},
        operation_id="matches",
    )
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Which token of a chunk each token of a question was matched with by the late-interaction scorer."""
        asked = MatchRequestSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        recipe = recipe_for(place, asked.validated_data.get("recipe"))
        pipeline = pipelines.get(place, core_recipe(recipe))
        chunk = asked.validated_data["chunk"]
        if not isinstance(pipeline.scorer, LateInteraction):
            raise RecipeError("rerank: this recipe has no late-interaction scorer")
        check_chunk(pipeline, chunk)
        read, shown = pipeline.texts.indexed([chunk])[0], pipeline.texts.texts([chunk])[0]
        before = len(read) - len(shown)
        matches = pipeline.scorer.matches(asked.validated_data["text"], Passage(read, chunk))
        # Tokens of the context line stand before the passage that is shown.
        shifted = [replace(match, start=match.start - before, end=match.end - before) for match in matches]
        return Response(TokenMatchSerializer(shifted, many=True).data)


class ExplainView(APIView):
    @extend_schema(
        request=ExplainRequestSerializer,
        responses={200: ExplainedSerializer(many=True), 400: PROBLEM},
        operation_id="explain",
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Term by term, why the sparse branch scores chunks for a question as it does."""
        asked = ExplainRequestSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        place = workspace_for(request, workspace)
        pipeline = pipelines.get(place, core_recipe(recipe_for(place, asked.validated_data.get("recipe"))))
        chunks = list(dict.fromkeys(asked.validated_data["chunks"]))
        for chunk in chunks:
            check_chunk(pipeline, chunk)
        return Response(explained(pipeline, asked.validated_data["text"], chunks))


def check_chunk(pipeline: Pipeline, chunk: int) -> None:
    """Whether a number is that of a chunk."""
    if not 0 <= chunk < len(pipeline.chunks):
        raise RecipeError(f"chunk: {chunk} is not between 0 and {len(pipeline.chunks) - 1}")


class RecipesView(APIView):
    @extend_schema(responses=RecipeSerializer(many=True), operation_id="recipes")
    def get(self, request: Request, workspace: int) -> Response:
        rows = workspace_for(request, workspace).recipes.order_by("name", "-version")
        return Response(RecipeSerializer(rows, many=True).data)
