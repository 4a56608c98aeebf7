"""A sparse branch: its index, its analysis, and why it scores chunks as it does."""

from dataclasses import asdict

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.branches.kind import SPARSE
from doppio.core.branches.sparse.term_branch import TermBranch
from doppio.core.recipe.check import check_analysis
from doppio.core.text.analysis import LANGUAGES, Analysis, read_synonyms
from doppio.core.text.hard_cases import met
from doppio.jobs.turns import HEAVY
from doppio.library.access import workspace_of
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.recipes.access import RECIPE
from doppio.stages.asked.beside import read_without
from doppio.stages.asking import BRANCH, asked_pipeline, branch_as, check_chunk, chosen_branch, pipeline_of
from doppio.stages.sparse.serializers import (
    AddedTermSerializer,
    AnalysedSerializer,
    AnalyseSerializer,
    ExplainedSerializer,
    ExplainRequestSerializer,
    SparseStageSerializer,
    SynonymGroupsSerializer,
    SynonymsSerializer,
)
from doppio.stages.sparse.service import added_to, explained, sparse_stage


class AnalysisView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=AnalyseSerializer,
        parameters=[RECIPE, BRANCH],
        responses={200: AnalysedSerializer, 400: PROBLEM},
        operation_id="analyse",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Token by token, what an analysis makes of a text, and how many chunks hold each term."""
        given = AnalyseSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        _, pipeline = asked_pipeline(request)
        identity = chosen_branch(pipeline, SPARSE, request.query_params.get("branch"))
        branch = branch_as(pipeline, identity, TermBranch)
        own = branch.settings["analysis"] if branch else {}
        settings = check_analysis(given.validated_data.get("analysis", own))
        analysis = Analysis.of(settings)
        index = branch.body if branch else None
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
    least = {"POST": Role.READER}

    @extend_schema(
        request=SynonymsSerializer,
        responses={200: SynonymGroupsSerializer, 400: PROBLEM},
        operation_id="readSynonyms",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Groups of synonyms from the text of a file, as a recipe keeps them."""
        workspace_of(request)
        given = SynonymsSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response({"groups": read_synonyms(given.validated_data["text"], given.validated_data["name"])})


class SparseStageView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH], responses={200: SparseStageSerializer, 409: PROBLEM}, operation_id="sparseStage"
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """The index of a sparse branch: its size and its vocabulary."""
        return Response(sparse_stage(*asked_pipeline(request), request.query_params.get("branch")))


class ExplainView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=ExplainRequestSerializer,
        responses={200: ExplainedSerializer(many=True), 400: PROBLEM},
        operation_id="explain",
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Term by term, why the sparse branch scores chunks for a question as it does."""
        space = workspace_of(request)
        asked = ExplainRequestSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        pipeline = pipeline_of(space, asked.validated_data.get("recipe"))
        chunks = list(dict.fromkeys(asked.validated_data["chunks"]))
        for chunk in chunks:
            check_chunk(pipeline, chunk)
        identity = chosen_branch(pipeline, SPARSE, asked.validated_data.get("branch"))
        values = asked.validated_data
        without = read_without(values.get("without", ""))
        return Response(explained(pipeline, identity, values["text"], chunks, values.get("words"), without))


class AddedView(APIView):
    @extend_schema(
        parameters=[RECIPE, BRANCH],
        responses={200: AddedTermSerializer(many=True), 400: PROBLEM},
        operation_id="addedTerms",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int, chunk: int) -> Response:
        """The terms that a sparse branch added to a chunk when it was indexed, the heaviest first."""
        _, pipeline = asked_pipeline(request)
        check_chunk(pipeline, chunk)
        identity = chosen_branch(pipeline, SPARSE, request.query_params.get("branch"))
        return Response(added_to(pipeline, identity, chunk))
