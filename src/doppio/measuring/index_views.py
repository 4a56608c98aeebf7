"""The indexes: facts, structures measured, neighbours, the map, near-identical chunks, analysis, cost of a build."""

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.asking.explain import brief_chunks, sparse_branch
from doppio.asking.services import core_recipe, pipelines
from doppio.asking.views import PROBLEM, recipe_for
from doppio.core.errors import RecipeError
from doppio.core.measure.relevance import relevance
from doppio.core.models.registry import TRAINED, TRAINED_TITLE
from doppio.core.pipeline import Pipeline, measure_of
from doppio.core.recipe import check, check_analysis
from doppio.core.sparse.fields import FieldedIndex
from doppio.core.text.analysis import LANGUAGES, Analysis, read_synonyms
from doppio.core.text.hard_cases import met
from doppio.indexing.cost import cost
from doppio.indexing.serializers import JobSerializer
from doppio.library.access import workspace_for
from doppio.library.models import Workspace
from doppio.library.turns import HEAVY
from doppio.measuring.index_serializers import (
    AnalysedSerializer,
    AnalyseSerializer,
    CostSerializer,
    EncoderSerializer,
    IndexesSerializer,
    NeighboursSerializer,
    PairsSerializer,
    RecipeBodySerializer,
    SurveySerializer,
    SynonymGroupsSerializer,
    SynonymsSerializer,
    VectorMapSerializer,
)
from doppio.measuring.services import core_question, positions, start_survey
from doppio.measuring.stages import (
    close_stage,
    dense_branch,
    encoders_listed,
    index_stage,
    neighbours,
    survey_stage,
    vector_map,
)

RECIPE = OpenApiParameter("recipe", int, description="A recipe; the one in force where it is left out.")
HITS, NEIGHBOURS = 20, 20
CLOSEST, LEAST_CLOSE = 0.95, 0.5


def opened(request: Request, workspace: int) -> tuple[Workspace, Pipeline]:
    """The workspace and the pipeline that a request is about."""
    place = workspace_for(request, workspace)
    recipe = recipe_for(place, request.query_params.get("recipe"))
    return place, pipelines.get(place, core_recipe(recipe))


def with_dense(request: Request, workspace: int) -> tuple[Workspace, Pipeline, dict[str, Any]]:
    """The same; the recipe must have a dense branch."""
    place, pipeline = opened(request, workspace)
    branch = dense_branch(pipeline)
    if branch is None:
        raise RecipeError("branches: this recipe has no dense branch")
    return place, pipeline, branch


def whole_number(request: Request, name: str, below: int) -> int:
    """A number from the address.

    Raises
    ------
    RecipeError
        If it is not a whole number from 0 up to the bound.
    """
    text = request.query_params.get(name, "")
    if not text.isdecimal() or int(text) >= below:
        raise RecipeError(f"{name}: {text!r} is not between 0 and {below - 1}")
    return int(text)


class IndexStageView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: IndexesSerializer, 409: PROBLEM}, operation_id="indexStage")
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """The indexes of a recipe: size, vocabulary, structure, how close chunks are to each other."""
        return Response(index_stage(*opened(request, workspace)))


class SurveyView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: SurveySerializer, 409: PROBLEM}, operation_id="survey")
    def get(self, request: Request, workspace: int) -> Response:
        """Structures and settings measured on the vectors of the recipe's dense branch."""
        place, pipeline, _ = with_dense(request, workspace)
        found = survey_stage(place, pipeline)
        return Response({**found, "job": JobSerializer(found["job"]).data if found["job"] else None})

    @extend_schema(request=None, parameters=[RECIPE], responses={202: JobSerializer}, operation_id="startSurvey")
    def post(self, request: Request, workspace: int) -> Response:
        """Measure them now."""
        place = workspace_for(request, workspace)
        recipe = recipe_for(place, request.query_params.get("recipe"))
        return Response(JobSerializer(start_survey(recipe, request.user)).data, status=202)


class NeighboursView(APIView):
    @extend_schema(
        parameters=[RECIPE, OpenApiParameter("chunk", int, required=True)],
        responses={200: NeighboursSerializer, 400: PROBLEM},
        operation_id="neighbours",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """The chunks that lie nearest to a chunk."""
        _, pipeline, branch = with_dense(request, workspace)
        chunk = whole_number(request, "chunk", len(pipeline.chunks))
        numbers, scores = neighbours(pipeline, chunk, NEIGHBOURS)
        first, *others = brief_chunks(pipeline, [chunk, *numbers])
        rows = [{**row, "score": score} for row, score in zip(others, scores, strict=True)]
        return Response({"chunk": first, "measure": measure_of(branch), "nearest": rows})


class VectorMapView(APIView):
    @extend_schema(
        parameters=[RECIPE, OpenApiParameter("question", int), OpenApiParameter("text", str)],
        responses={200: VectorMapSerializer, 400: PROBLEM},
        operation_id="vectorMap",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Chunks on the two principal axes, with a question, its first hits and its answers."""
        place, pipeline, _ = with_dense(request, workspace)
        wanted, text = request.query_params.get("question", ""), request.query_params.get("text", "")
        answers: list[int] = []
        if wanted.isdecimal():
            row = get_object_or_404(place.questions.prefetch_related("spans__document"), pk=int(wanted))
            text = row.text
            found = relevance(pipeline.chunks, positions(pipeline), core_question(row))
            answers = sorted({int(chunk) for chunks in found.chunks for chunk in chunks})
        return Response(vector_map(pipeline, text or None, HITS, answers))


class ClosePairsView(APIView):
    @extend_schema(
        parameters=[RECIPE, OpenApiParameter("above", float, description="The least cosine; 0.95 where left out.")],
        responses={200: PairsSerializer, 400: PROBLEM},
        operation_id="closePairs",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Pairs of chunks that are nearly the same to the encoder, over the whole corpus."""
        _, pipeline, _ = with_dense(request, workspace)
        given = request.query_params.get("above", str(CLOSEST))
        try:
            above = float(given)
        except ValueError:
            above = -1.0
        if not LEAST_CLOSE <= above <= 1:
            raise RecipeError(f"above: {given!r} is not between {LEAST_CLOSE} and 1")
        found = close_stage(pipeline, above)
        return Response({**found, "above": above, "pairs": _with_texts(pipeline, found["pairs"])})


def _with_texts(pipeline: Pipeline, pairs: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    numbers = sorted({pair[side] for pair in pairs for side in ("one", "other")})
    shown = {row["number"]: row for row in brief_chunks(pipeline, numbers)}
    return [{"one": shown[p["one"]], "other": shown[p["other"]], "cosine": p["cosine"]} for p in pairs]


class AnalysisView(APIView):
    @extend_schema(
        request=AnalyseSerializer,
        parameters=[RECIPE],
        responses={200: AnalysedSerializer, 400: PROBLEM},
        operation_id="analyse",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Token by token, what an analysis makes of a text, and how many chunks hold each term."""
        given = AnalyseSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        _, pipeline = opened(request, workspace)
        branch = sparse_branch(pipeline)
        own = branch["analysis"] if branch else {}
        settings = check_analysis(given.validated_data.get("analysis", own))
        analysis = Analysis.of(settings)
        index = pipeline.postings[branch["id"]] if branch else None
        if isinstance(index, FieldedIndex):
            index = index.fields.get("body")
        known: dict[str, int] = {}

        def held(term: str) -> int:
            if term not in known:
                known[term] = index.statistics(term)[0] if index else 0
            return known[term]

        steps = [
            {
                **{name: getattr(step, name) for name in ("start", "end", "token", "folded", "stopped", "stem")},
                "terms": [{"text": term.text, "kind": term.kind, "chunks": held(term.text)} for term in step.terms],
            }
            for step in analysis.steps(given.validated_data["text"])
        ]
        cases = [{**asdict(found.case), "shared": found.shared} for found in met(analysis)]
        return Response({"steps": steps, "analysis": settings, "languages": list(LANGUAGES), "cases": cases})


class SynonymsView(APIView):
    @extend_schema(
        request=SynonymsSerializer,
        responses={200: SynonymGroupsSerializer, 400: PROBLEM},
        operation_id="readSynonyms",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Groups of synonyms from the text of a file, as a recipe keeps them."""
        workspace_for(request, workspace)
        given = SynonymsSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response({"groups": read_synonyms(given.validated_data["text"], given.validated_data["name"])})


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
    @extend_schema(
        request=RecipeBodySerializer, responses={200: CostSerializer, 400: PROBLEM}, operation_id="buildCost"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """What building a recipe would take now; nothing is built."""
        given = RecipeBodySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        recipe = check(given.validated_data["body"])
        return Response({**cost(workspace_for(request, workspace), recipe), "remarks": recipe.remarks})
