"""How recall follows the mix of branches, and the mix that labels speak for."""

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.branches.kind import kind_of
from doppio.core.measure.relevance import relevance
from doppio.core.trace import Trace
from doppio.jobs.serializers import JobSerializer
from doppio.jobs.turns import HEAVY
from doppio.library.access import person, workspace_of
from doppio.library.problems import PROBLEM
from doppio.questions.services import core_question, positions
from doppio.recipes.access import RECIPE, recipe_for
from doppio.recipes.opened import pipelines
from doppio.recipes.services import core_recipe
from doppio.stages.fused.fit import fusion_fit, start_fusion_fit
from doppio.stages.fused.serializers import FusionFitSerializer, MixSerializer
from doppio.stages.fused.service import mix_curve
from doppio.trials.services import latest_trial


class MixView(APIView):
    @extend_schema(
        parameters=[RECIPE, OpenApiParameter("question", int)],
        responses={200: MixSerializer, 404: PROBLEM},
        operation_id="mix",
    )
    @HEAVY.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """recall@k as the weight moves from one branch to the other, over all labelled questions or for one."""
        space = workspace_of(request)
        recipe = recipe_for(space, request.query_params.get("recipe"))
        core = core_recipe(recipe)
        trial = latest_trial(recipe)
        branches = [branch["id"] for branch in core.branches]
        families = [kind_of(branch).family for branch in core.branches]
        body = {"branches": branches, "families": families, "k": core.passed_by_fusion, "curves": []}
        if trial is None or len(branches) != 2:
            return Response({**body, "questions": 0})
        pipeline = pipelines.whole(space, core)
        table, where = pipeline.chunks, positions(pipeline)
        wanted = request.query_params.get("question", "")
        kept = trial.rows.filter(question=int(wanted)) if wanted.isdecimal() else trial.rows.all()
        kept = kept.select_related("question").prefetch_related("question__spans__document")
        rows = [row for row in kept if any(span.counts for span in row.question.spans.all())]
        curves = mix_curve(
            [Trace.from_json(row.trace) for row in rows],
            [relevance(table, where, core_question(row.question)) for row in rows],
            branches,
            core.fusion,
            k=core.passed_by_fusion,
            least=pipeline.least,
        )
        return Response({**body, "questions": len(rows), "curves": curves})


class FusionFitView(APIView):
    @extend_schema(parameters=[RECIPE], responses=FusionFitSerializer, operation_id="fusionFit")
    def get(self, request: Request, workspace: int) -> Response:
        """Weights of the branches that were fitted to the labels, with what they are worth."""
        recipe = recipe_for(workspace_of(request), request.query_params.get("recipe"))
        return Response(FusionFitSerializer(fusion_fit(recipe)).data)

    @extend_schema(
        request=None, parameters=[RECIPE], responses={202: JobSerializer, 400: PROBLEM}, operation_id="startFusionFit"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Fit them."""
        recipe = recipe_for(workspace_of(request), request.query_params.get("recipe"))
        return Response(JobSerializer(start_fusion_fit(recipe, person(request))).data, status=202)
