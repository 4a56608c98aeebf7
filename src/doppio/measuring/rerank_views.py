"""Reranking: the floor, the depth of the shortlist, and a scorer on its own."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.asking.models import RecipeVersion
from doppio.asking.views import PROBLEM, recipe_for
from doppio.indexing.serializers import JobSerializer
from doppio.library.access import workspace_for
from doppio.library.turns import HEAVY
from doppio.measuring.index_views import RECIPE
from doppio.measuring.rerank_serializers import (
    DepthsSerializer,
    FloorSerializer,
    RestsOnSerializer,
    ScorerSerializer,
    SentenceDropSerializer,
    TriedSerializer,
    TrySerializer,
)
from doppio.measuring.reranking import depth_stage, floor_stage, rests_on, scorers_listed, start_depths, tried


def asked_recipe(request: Request, workspace: int) -> RecipeVersion:
    """The recipe that a request is about."""
    return recipe_for(workspace_for(request, workspace), request.query_params.get("recipe"))


class FloorView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: FloorSerializer, 409: PROBLEM}, operation_id="floor")
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Scores of every question's shortlist in the newest trial, to see what falls under a floor."""
        return Response(floor_stage(asked_recipe(request, workspace)))


class DepthsView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: DepthsSerializer, 409: PROBLEM}, operation_id="depths")
    def get(self, request: Request, workspace: int) -> Response:
        """Recall and time by the depth of the shortlist, as they were measured."""
        found = depth_stage(asked_recipe(request, workspace))
        return Response({**found, "job": JobSerializer(found["job"]).data if found["job"] else None})

    @extend_schema(request=None, parameters=[RECIPE], responses={202: JobSerializer}, operation_id="startDepths")
    def post(self, request: Request, workspace: int) -> Response:
        """Measure them now."""
        return Response(JobSerializer(start_depths(asked_recipe(request, workspace), request.user)).data, status=202)


class ScorersView(APIView):
    @extend_schema(responses=ScorerSerializer(many=True), operation_id="scorers")
    def get(self, request: Request) -> Response:
        """Scorers that a recipe can name."""
        return Response(scorers_listed())


class TryScorerView(APIView):
    @extend_schema(request=TrySerializer, responses={200: TriedSerializer, 400: PROBLEM}, operation_id="tryScorer")
    @HEAVY.turn()
    def post(self, request: Request) -> Response:
        """Score passages that come with the request, beside the cosine of vectors made apart."""
        given = TrySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(tried(given.validated_data["scorer"], *_asked(given, "passages")))


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
        return Response(rests_on(given.validated_data["scorer"], *_asked(given, "passage")))


def _asked(given: TrySerializer | RestsOnSerializer, what: str) -> tuple:
    return given.validated_data["question"], given.validated_data[what]
