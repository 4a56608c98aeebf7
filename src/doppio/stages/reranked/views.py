"""Reranking: the floor, the depth of the shortlist, and a scorer on its own."""

from collections.abc import Callable
from dataclasses import replace
from typing import cast

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import RecipeError
from doppio.core.models.joint import Passage
from doppio.core.models.token_vectors import TokenMatch
from doppio.core.pipeline import Pipeline
from doppio.jobs.serializers import JobSerializer
from doppio.jobs.turns import ASKING, HEAVY
from doppio.library.access import person, workspace_of
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.recipes.access import RECIPE
from doppio.stages.asking import asked_recipe, check_chunk, pipeline_of
from doppio.stages.reranked.fit import fit_stage, own_fitted, start_fit
from doppio.stages.reranked.serializers import (
    DepthsSerializer,
    FitSerializer,
    FloorSerializer,
    MatchRequestSerializer,
    RestsOnSerializer,
    ScorerSerializer,
    SentenceDropSerializer,
    TokenMatchSerializer,
    TriedSerializer,
    TrySerializer,
)
from doppio.stages.reranked.service import depth_stage, floor_stage, rests_on, scorers_listed, start_depths, tried


class FloorView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: FloorSerializer, 409: PROBLEM}, operation_id="floor")
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Scores of every question's shortlist in the newest trial, to see what falls under a floor."""
        return Response(floor_stage(asked_recipe(request)))


class DepthsView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: DepthsSerializer, 409: PROBLEM}, operation_id="depths")
    def get(self, request: Request, workspace: int) -> Response:
        """Recall and time by the depth of the shortlist, as they were measured."""
        found = depth_stage(asked_recipe(request))
        return Response({**found, "job": JobSerializer(found["job"]).data if found["job"] else None})

    @extend_schema(request=None, parameters=[RECIPE], responses={202: JobSerializer}, operation_id="startDepths")
    def post(self, request: Request, workspace: int) -> Response:
        """Measure them now."""
        return Response(JobSerializer(start_depths(asked_recipe(request), person(request))).data, status=202)


class FitView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: FitSerializer, 409: PROBLEM}, operation_id="fitted")
    def get(self, request: Request, workspace: int) -> Response:
        """Scorers that were fitted to the labels of this workspace, newest first."""
        found = fit_stage(asked_recipe(request))
        return Response(FitSerializer(found).data)

    @extend_schema(
        request=None, parameters=[RECIPE], responses={202: JobSerializer, 400: PROBLEM}, operation_id="startFit"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Fit one now."""
        return Response(JobSerializer(start_fit(asked_recipe(request), person(request))).data, status=202)


class ScorersView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("workspace", int, description="Those fitted to its labels come too.")],
        responses=ScorerSerializer(many=True),
        operation_id="scorers",
    )
    def get(self, request: Request) -> Response:
        """Scorers that a recipe can name."""
        return Response(scorers_listed(own_fitted(request)))


class TryScorerView(APIView):
    @extend_schema(request=TrySerializer, responses={200: TriedSerializer, 400: PROBLEM}, operation_id="tryScorer")
    @HEAVY.turn()
    def post(self, request: Request) -> Response:
        """Score passages that come with the request, beside the cosine of vectors made apart."""
        given = TrySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        told = given.validated_data
        return Response(tried(told["scorer"], told["question"], told["passages"]))


class RestsOnView(APIView):
    @extend_schema(
        request=RestsOnSerializer,
        responses={200: SentenceDropSerializer(many=True), 400: PROBLEM},
        operation_id="restsOn",
    )
    @HEAVY.turn()
    def post(self, request: Request) -> Response:
        """By how much the score of a passage drops without each of its sentences."""
        given = RestsOnSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        told = given.validated_data
        return Response(rests_on(told["scorer"], told["question"], told["passage"], told.get("around", [])))


class MatchesView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=MatchRequestSerializer,
        responses={200: TokenMatchSerializer(many=True), 400: PROBLEM},
        operation_id="matches",
    )
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Which token of a chunk each token of a question was matched with, by a branch or by the scorer."""
        space = workspace_of(request)
        asked = MatchRequestSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        pipeline = pipeline_of(space, asked.validated_data.get("recipe"))
        chunk = asked.validated_data["chunk"]
        check_chunk(pipeline, chunk)
        matches = _matching(pipeline, asked.validated_data.get("branch"))
        read, shown = pipeline.texts.indexed([chunk])[0], pipeline.texts.texts([chunk])[0]
        before = len(read) - len(shown)
        found = matches(asked.validated_data["text"], Passage(read, chunk))
        # Tokens of the context line stand before the passage that is shown.
        shifted = [replace(match, start=match.start - before, end=match.end - before) for match in found]
        return Response(TokenMatchSerializer(shifted, many=True).data)


def _matching(pipeline: Pipeline, branch: str | None) -> Callable[[str, Passage], list[TokenMatch]]:
    """What matches tokens: a branch that is named, or the scorer.

    Raises
    ------
    RecipeError
        If it does not match tokens.
    """
    if branch:
        matches = getattr(pipeline.branches.get(branch), "matches", None)
        if matches is None:
            raise RecipeError(f"branch: {branch!r} is no branch of this recipe that matches tokens")
        return cast(Callable[[str, Passage], list[TokenMatch]], matches)
    late = pipeline.reranker.late if pipeline.reranker else None
    if late is None:
        raise RecipeError("rerank: this recipe has no late-interaction scorer")
    return late.matches
