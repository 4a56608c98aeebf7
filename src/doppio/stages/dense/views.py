"""A dense branch: its index, structures measured, neighbours, the map, close pairs."""

from collections.abc import Sequence
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.branches.query import Query
from doppio.core.branches.vector import DenseBranch
from doppio.core.errors import RecipeError
from doppio.core.measure.relevance import relevance
from doppio.core.pipeline import Pipeline
from doppio.jobs.serializers import JobSerializer
from doppio.jobs.turns import ASKING, HEAVY
from doppio.library import pictures
from doppio.library.access import person, workspace_of
from doppio.library.models import Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.questions.services import core_question, positions
from doppio.recipes.access import RECIPE, recipe_for
from doppio.stages.asking import BRANCH, asked_pipeline, brief_chunks, check_chunk, pipeline_of, whole_number
from doppio.stages.dense.measured import start_survey, survey_stage
from doppio.stages.dense.serializers import (
    DenseStageSerializer,
    NeighboursSerializer,
    PairsSerializer,
    ShadedRequestSerializer,
    ShadedSheetSerializer,
    SurveySerializer,
    VectorMapSerializer,
)
from doppio.stages.dense.service import (
    close_stage,
    dense_branch,
    dense_stage,
    neighbours,
    shaded_sheets,
    vector_map,
)

HITS, NEIGHBOURS = 20, 20
CLOSEST, LEAST_CLOSE = 0.95, 0.5


def with_dense(request: Request) -> tuple[Workspace, Pipeline, DenseBranch]:
    """The workspace, the pipeline and the dense branch that a request is about."""
    space, pipeline = asked_pipeline(request)
    branch = dense_branch(pipeline, request.query_params.get("branch"))
    if branch is None:
        raise RecipeError("branches: this recipe has no dense branch")
    return space, pipeline, branch


class DenseStageView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH], responses={200: DenseStageSerializer, 409: PROBLEM}, operation_id="denseStage"
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """The index of a dense branch: its size, its structure, and how close chunks are to each other."""
        return Response(dense_stage(*asked_pipeline(request), request.query_params.get("branch")))


class SurveyView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH], responses={200: SurveySerializer, 409: PROBLEM}, operation_id="survey"
    )
    def get(self, request: Request, workspace: int) -> Response:
        """Structures and settings measured on the vectors of the recipe's dense branch."""
        found = survey_stage(*asked_pipeline(request), request.query_params.get("branch"))
        return Response({**found, "job": JobSerializer(found["job"]).data if found["job"] else None})

    @extend_schema(
        request=None, parameters=[RECIPE, BRANCH], responses={202: JobSerializer}, operation_id="startSurvey"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Measure them now."""
        space = workspace_of(request)
        recipe = recipe_for(space, request.query_params.get("recipe"))
        return Response(
            JobSerializer(start_survey(recipe, person(request), request.query_params.get("branch", ""))).data,
            status=202,
        )


class NeighboursView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH, OpenApiParameter("chunk", int, required=True)],
        responses={200: NeighboursSerializer, 400: PROBLEM},
        operation_id="neighbours",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """The chunks that lie nearest to a chunk."""
        _, pipeline, branch = with_dense(request)
        chunk = whole_number(request, "chunk", len(pipeline.chunks))
        numbers, scores = neighbours(branch, chunk, NEIGHBOURS)
        first, *others = brief_chunks(pipeline, [chunk, *numbers])
        rows = [{**row, "score": score} for row, score in zip(others, scores, strict=True)]
        return Response({"chunk": first, "measure": branch.measure, "nearest": rows})


class VectorMapView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH, OpenApiParameter("question", int), OpenApiParameter("text", str)],
        responses={200: VectorMapSerializer, 400: PROBLEM},
        operation_id="vectorMap",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Chunks on the two principal axes, with a question, its first hits and its answers."""
        space, pipeline, branch = with_dense(request)
        wanted, text = request.query_params.get("question", ""), request.query_params.get("text", "")
        answers: list[int] = []
        if wanted.isdecimal():
            row = get_object_or_404(space.questions.prefetch_related("spans__document"), pk=int(wanted))
            text = row.text
            found = relevance(pipeline.chunks, positions(pipeline), core_question(row))
            answers = sorted({int(chunk) for chunks in found.chunks for chunk in chunks})
        return Response(vector_map(pipeline, branch, text or None, HITS, answers))


class ClosePairsView(APIView):
    @extend_schema(
        parameters=[
            RECIPE,
            BRANCH,
            OpenApiParameter("above", float, description="The least cosine; 0.95 where left out."),
        ],
        responses={200: PairsSerializer, 400: PROBLEM},
        operation_id="closePairs",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Pairs of chunks that are nearly the same to the encoder, over the whole corpus."""
        _, pipeline, branch = with_dense(request)
        given = request.query_params.get("above", str(CLOSEST))
        try:
            above = float(given)
        except ValueError:
            above = -1.0
        if not LEAST_CLOSE <= above <= 1:
            raise RecipeError(f"above: {given!r} is not between {LEAST_CLOSE} and 1")
        found = close_stage(branch, above)
        return Response({**found, "above": above, "pairs": _with_texts(pipeline, found["pairs"])})


class ShadedView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=ShadedRequestSerializer,
        responses={200: ShadedSheetSerializer(many=True), 400: PROBLEM},
        operation_id="shadedPages",
    )
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """The pages that a chunk stands on, and which patch of them answers which token of a question."""
        space = workspace_of(request)
        given = ShadedRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        told = given.validated_data
        pipeline = pipeline_of(space, told.get("recipe"))
        check_chunk(pipeline, told["chunk"])
        picture = pictures.asked(told["picture"]) if told.get("picture") else None
        query = Query(told["text"], picture=picture, share=told.get("share", Query.share))
        return Response(shaded_sheets(pipeline, told["branch"], query, told["chunk"]))


def _with_texts(pipeline: Pipeline, pairs: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    numbers = sorted({pair[side] for pair in pairs for side in ("one", "other")})
    shown = {row["number"]: row for row in brief_chunks(pipeline, numbers)}
    return [{"one": shown[p["one"]], "other": shown[p["other"]], "cosine": p["cosine"]} for p in pairs]
