"""Cutting by any settings, now."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.recipe.check import check_chunking
from doppio.jobs.turns import HEAVY
from doppio.library.access import workspace_of
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.stages.chunks.serializers import (
    ChunkFiguresSerializer,
    ChunkingSerializer,
    CutRequestSerializer,
    CutSerializer,
)
from doppio.stages.chunks.service import cut_view, figures_view


class CutView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=CutRequestSerializer, responses={200: CutSerializer, 400: PROBLEM}, operation_id="cutDocument"
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Cut one document by any settings, now; nothing is built or kept."""
        space = workspace_of(request)
        given = CutRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        row = get_object_or_404(space.documents.prefetch_related("sections"), pk=given.validated_data["document"])
        return Response(cut_view(row, check_chunking(given.validated_data["chunking"])))


class ChunkFiguresView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=ChunkingSerializer, responses={200: ChunkFiguresSerializer, 400: PROBLEM}, operation_id="chunkFigures"
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Cut all documents by any settings and say what is wrong with it; nothing is built or kept."""
        given = ChunkingSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(figures_view(workspace_of(request), check_chunking(given.validated_data["chunking"])))
