"""Workspaces as files, and copies of them."""

import tempfile
from pathlib import Path

from django.db import transaction
from django.http import FileResponse, QueryDict
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.exceptions import ValidationError
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import person, workspace_of
from doppio.library.carrying import pack, unpack
from doppio.library.events import WORKSPACE_COPIED, WORKSPACE_EMPTIED, WORKSPACE_EXPORTED, WORKSPACE_IMPORTED, note
from doppio.library.models import Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.library.workspace_serializers import NamedSerializer, WorkspaceSerializer
from doppio.library.workspace_views import row_of
from doppio.library.workspaces import check_free, empty


class WorkspaceFileSerializer(s.Serializer):
    file = s.FileField()
    name = s.CharField(required=False, help_text="That of the file where it is left out.")


class ExportView(APIView):
    # It holds all that anybody did, with names.
    least = {"GET": Role.EDITOR}

    @extend_schema(responses={(200, "application/zip"): OpenApiTypes.BINARY}, operation_id="exportWorkspace")
    def get(self, request: Request, workspace: int) -> FileResponse:
        """The workspace as one file."""
        space = workspace_of(request)
        # The file has no name any more once it is open; it goes when the answer is sent.
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "workspace.zip"
            pack(space, place)
            file = place.open("rb")
        note(WORKSPACE_EXPORTED, request, workspace=space)
        plain = "".join(sign if sign.isascii() and sign.isalnum() else "-" for sign in space.name).strip("-")
        return FileResponse(
            file, as_attachment=True, filename=f"{plain or 'workspace'}.doppio.zip", content_type="application/zip"
        )


class ImportView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": WorkspaceFileSerializer},
        responses={201: WorkspaceSerializer, 400: PROBLEM},
        operation_id="importWorkspace",
    )
    def post(self, request: Request) -> Response:
        """A workspace out of such a file, owned by the person; all of it or nothing."""
        given = request.FILES.get("file")
        if given is None:
            raise ValidationError({"detail": "file: missing; give a file that was exported from a workspace"})
        name = request.data.get("name", "") if isinstance(request.data, QueryDict) else ""
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / Path(given.name).name
            with place.open("wb") as file:
                for part in given.chunks():
                    file.write(part)
            made = unpack(place, person(request), str(name))
        note(WORKSPACE_IMPORTED, request, workspace=made, file=given.name)
        return _answer(request, made)


class CopyView(APIView):
    @extend_schema(
        request=NamedSerializer, responses={201: WorkspaceSerializer, 400: PROBLEM}, operation_id="copyWorkspace"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Another workspace with all that this one holds, but for its members; owned by the person."""
        given = NamedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        space, name = workspace_of(request), given.validated_data["name"]
        check_free(name)
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "copy.zip"
            pack(space, place)
            made = unpack(place, person(request), name)
        note(WORKSPACE_COPIED, request, workspace=made, source=space.name)
        return _answer(request, made)


class EmptyView(APIView):
    least = {"POST": Role.OWNER}

    @extend_schema(request=None, responses={201: WorkspaceSerializer}, operation_id="emptyWorkspace")
    def post(self, request: Request, workspace: int) -> Response:
        """A workspace of the same name, members and recipes without anything else; what was is kept for a week."""
        space = workspace_of(request)
        with transaction.atomic():
            name = space.name
            made = empty(space)
            note(WORKSPACE_EMPTIED, request, workspace=made, workspace_name=name, kept_as=space.name)
        return _answer(request, made)


def _answer(request: Request, made: Workspace) -> Response:
    return Response(row_of(made, person(request)), status=201)
