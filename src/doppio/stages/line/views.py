"""The line: levels of every stage."""

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import workspace_of
from doppio.recipes.access import RECIPE, recipe_for
from doppio.stages.line.serializers import LineSerializer
from doppio.stages.line.service import line


class LineView(APIView):
    @extend_schema(parameters=[RECIPE], responses=LineSerializer, operation_id="line")
    def get(self, request: Request, workspace: int) -> Response:
        space = workspace_of(request)
        return Response(line(space, recipe_for(space, request.query_params.get("recipe"))))
