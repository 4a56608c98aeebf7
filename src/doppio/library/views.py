"""Session, workspaces and documents."""

from django.contrib.auth import logout
from django.db.models import Count, F, Func, IntegerField, Sum
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import workspace_for
from doppio.library.serializers import (
    DocumentRowSerializer,
    DocumentSerializer,
    SessionSerializer,
    WorkspaceSerializer,
)


class SessionView(APIView):
    @extend_schema(responses=SessionSerializer, operation_id="session")
    def get(self, request: Request) -> Response:
        return Response({"username": request.user.get_username()})

    @extend_schema(responses={204: None}, operation_id="leave")
    def delete(self, request: Request) -> Response:
        logout(request)
        return Response(status=204)


class WorkspacesView(APIView):
    @extend_schema(responses=WorkspaceSerializer(many=True), operation_id="workspaces")
    def get(self, request: Request) -> Response:
        rows = request.user.workspaces.annotate(count=Count("documents"), total=Sum("documents__words", default=0))
        return Response(
            [
                {"id": row.pk, "name": row.name, "documents": row.count, "words": row.total}
                for row in rows.order_by("pk")
            ]
        )


class DocumentsView(APIView):
    @extend_schema(responses=DocumentRowSerializer(many=True), operation_id="documents")
    def get(self, request: Request, workspace: int) -> Response:
        rows = (
            workspace_for(request, workspace)
            .documents.annotate(
                section_count=Count("sections"),
                block_count=Func(F("blocks"), function="jsonb_array_length", output_field=IntegerField()),
            )
            .values("pk", "name", "title", "words", "section_count", "block_count")
        )
        return Response(
            [
                {
                    "id": row["pk"],
                    "name": row["name"],
                    "title": row["title"],
                    "words": row["words"],
                    "sections": row["section_count"],
                    "blocks": row["block_count"],
                }
                for row in rows
            ]
        )


class DocumentView(APIView):
    @extend_schema(responses=DocumentSerializer, operation_id="document")
    def get(self, request: Request, workspace: int, document: int) -> Response:
        row = get_object_or_404(workspace_for(request, workspace).documents, pk=document)
        fields = ("index", "number", "title", "level", "start", "end", "parent")
        return Response(
            {
                "id": row.pk,
                "name": row.name,
                "title": row.title,
                "text": row.text,
                "words": row.words,
                "blocks": [
                    {"kind": kind, "start": start, "end": end, "level": level}
                    for kind, start, end, level in row.blocks
                ],
                "sections": list(row.sections.values(*fields)),
                "metadata": row.metadata,
            }
        )
