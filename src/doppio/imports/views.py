"""Imports: files in, and what became of each."""

from typing import Any

from django.db import transaction
from django.db.models import Count
from django.http import QueryDict
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.exceptions import ValidationError
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import ROWS
from doppio.imports import services as imports
from doppio.imports.models import Import, ImportedFile
from doppio.imports.serializers import (
    FieldSeenSerializer,
    ImportedFileSerializer,
    ImportSerializer,
    SetFieldsSerializer,
    StageSerializer,
)
from doppio.jobs.serializers import JobSerializer
from doppio.library import files
from doppio.library.access import person, workspace_of
from doppio.library.events import IMPORT_STARTED, note

FILES_SHOWN = 500
NAMED = 20


class ImportsView(APIView):
    @extend_schema(responses={200: ImportSerializer, 204: None}, operation_id="lastImport")
    def get(self, request: Request, workspace: int) -> Response:
        """The import that was started last; nothing where there was none."""
        found = workspace_of(request).imports.exclude(job=None).select_related("job").first()
        return Response(_import(found)) if found else Response(status=204)

    @extend_schema(request=None, responses={201: ImportSerializer}, operation_id="beginImport")
    def post(self, request: Request, workspace: int) -> Response:
        """An empty import that files are put into."""
        return Response(_import(imports.begin(workspace_of(request), person(request))), status=201)


class ImportView(APIView):
    @extend_schema(responses=ImportSerializer, operation_id="import")
    def get(self, request: Request, workspace: int, brought_in: int) -> Response:
        return Response(_import(_import_for(request, brought_in)))


class ImportFilesView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": StageSerializer},
        responses={201: ImportedFileSerializer(many=True)},
        operation_id="stageFiles",
    )
    def post(self, request: Request, workspace: int, brought_in: int) -> Response:
        """Put files into an import: `files`, and their `names` with folders in the same order."""
        given = request.FILES.getlist("files")
        # A form without any part is read as an empty dictionary.
        names = request.data.getlist("names") if isinstance(request.data, QueryDict) else []
        if not given or len(names) != len(given):
            raise ValidationError({"detail": f"names: {len(names)} for {len(given)} files; give one name a file"})
        found = _import_for(request, brought_in)
        rows = [imports.stage(found, name, file.size, file) for name, file in zip(names, given, strict=True)]
        return Response(ImportedFileSerializer(rows, many=True).data, status=201)


class ImportFileFieldsView(APIView):
    @extend_schema(responses=FieldSeenSerializer(many=True), operation_id="fieldsSeen")
    def get(self, request: Request, workspace: int, brought_in: int, file: int) -> Response:
        """Fields of a CSV or JSONL file with sample values."""
        row = _tabular(request, workspace, brought_in, file)
        with BoundedReader() as reader:
            return Response(reader.fields(files.kept(row.digest, row.name), row.name))

    @extend_schema(request=SetFieldsSerializer, responses=ImportedFileSerializer, operation_id="setFields")
    def put(self, request: Request, workspace: int, brought_in: int, file: int) -> Response:
        """Say which fields are matched, carried along, and the title; null reads the file as it is."""
        row = _tabular(request, workspace, brought_in, file)
        given = SetFieldsSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        imports.set_fields(row, given.validated_data["fields"])
        return Response(ImportedFileSerializer(row).data)


class ImportStartView(APIView):
    @extend_schema(request=None, responses={202: JobSerializer}, operation_id="startImport")
    def post(self, request: Request, workspace: int, brought_in: int) -> Response:
        found = _import_for(request, brought_in)
        with transaction.atomic():
            job = imports.start(found, person(request))
            names = list(found.files.order_by("position").values_list("name", flat=True)[:NAMED])
            note(IMPORT_STARTED, request, workspace=workspace_of(request), files=found.files.count(), first=names)
        return Response(JobSerializer(job).data, status=202)


def _import_for(request: Request, number: int) -> Import:
    return get_object_or_404(workspace_of(request).imports.select_related("job"), pk=number)


def _tabular(request: Request, workspace: int, brought_in: int, file: int) -> ImportedFile:
    row = get_object_or_404(_import_for(request, brought_in).files, pk=file)
    if not row.name.lower().endswith(ROWS) or not row.digest:
        raise ValidationError({"detail": f"{row.name}: only {' and '.join(ROWS)} files have fields"})
    return row


def _import(found: Import) -> dict[str, Any]:
    states = dict(found.files.values_list("state").annotate(count=Count("pk")).order_by())
    # What went wrong is shown before what went well.
    rank = {"refused": 0, "waiting": 1, "replaced": 2, "added": 3, "same": 4, "shown": 5, "opened": 6}
    rows = sorted(found.files.all(), key=lambda row: (rank.get(row.state, 9), row.position))
    return {
        "id": found.pk,
        "job": JobSerializer(found.job).data if found.job else None,
        "states": states,
        "files": ImportedFileSerializer(rows[:FILES_SHOWN], many=True).data,
    }
