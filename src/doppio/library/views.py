"""Session and documents."""

from typing import Any

from django.contrib.auth import logout
from django.db import transaction
from django.db.models import Count, F, Func, IntegerField, OuterRef, Subquery
from django.db.models.functions import Coalesce
from django.http import HttpResponse
from django.middleware.csrf import get_token
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DocumentError
from doppio.core.text.metadata import kind_of
from doppio.core.text.outline import Correction, doubts, occurrence_of
from doppio.library.access import person, workspace_of
from doppio.library.corpus import core_document
from doppio.library.events import DOCUMENTS_REMOVED, OUTLINE_CORRECTED, SIGNED_OUT, note
from doppio.library.models import Document, Section
from doppio.library.page_lines import page_standing
from doppio.library.pictures import figure_of, page_picture
from doppio.library.problems import PROBLEM
from doppio.library.serializers import (
    DocumentRowSerializer,
    DocumentSerializer,
    OutlineSerializer,
    PageStandingSerializer,
    RemovedSerializer,
    RemoveSerializer,
    SessionSerializer,
)
from doppio.library.services import correct_outline, remove_documents
from doppio.library.signals import settled
from doppio.library.texts import figures_of

UNDO = "undo"
ROWS_A_PAGE = 1000


class SessionView(APIView):
    @extend_schema(responses=SessionSerializer, operation_id="session")
    def get(self, request: Request) -> Response:
        return Response({"username": person(request).get_username(), "token": get_token(request)})

    @extend_schema(responses={204: None}, operation_id="leave")
    def delete(self, request: Request) -> Response:
        note(SIGNED_OUT, request)
        logout(request)
        return Response(status=204)


def page_size(request: Request) -> int:
    """How many rows of a list are wanted: `limit`, at most and by default a thousand."""
    wanted = request.query_params.get("limit", "")
    return min(int(wanted), ROWS_A_PAGE) if wanted.isdecimal() and int(wanted) > 0 else ROWS_A_PAGE


class DocumentsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("after", str, description="Only documents whose name comes after this one."),
            OpenApiParameter("limit", int, description="At most so many; 1000 where it is left out, and never more."),
        ],
        responses=DocumentRowSerializer(many=True),
        operation_id="documents",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """The documents in the order of their names, a page at a time."""
        sections = Section.objects.filter(document=OuterRef("pk")).order_by().values("document")
        rows = (
            workspace_of(request)
            .documents.filter(name__gt=request.query_params.get("after", "").replace("\0", ""))
            .annotate(
                section_count=Coalesce(Subquery(sections.annotate(count=Count("pk")).values("count")), 0),
                block_count=Func(F("blocks"), function="jsonb_array_length", output_field=IntegerField()),
            )
            .order_by("name")
            .values("pk", "name", "title", "version", "words", "pages", "section_count", "block_count", "metadata")
        )[: page_size(request)]
        return Response(
            [
                {
                    "id": row["pk"],
                    "name": row["name"],
                    "title": row["title"],
                    "version": row["version"],
                    "words": row["words"],
                    "pages": row["pages"],
                    "sections": row["section_count"],
                    "blocks": row["block_count"],
                    "metadata": _metadata(row["metadata"]),
                }
                for row in rows
            ]
        )

    @extend_schema(request=RemoveSerializer, responses=RemovedSerializer, operation_id="removeDocuments")
    def post(self, request: Request, workspace: int) -> Response:
        """Remove documents; their labels keep their quotes and wait for a person."""
        space = workspace_of(request)
        given = RemoveSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        numbers = given.validated_data["documents"]
        names = list(space.documents.filter(pk__in=numbers).order_by("name").values_list("name", flat=True))
        with transaction.atomic():
            removed = remove_documents(space, numbers)
            note(DOCUMENTS_REMOVED, request, workspace=space, documents=names)
        settled.send(Document, workspace=space)
        return Response({"removed": removed})


class DocumentView(APIView):
    @extend_schema(responses=DocumentSerializer, operation_id="document")
    def get(self, request: Request, workspace: int, document: int) -> Response:
        return Response(_document(_row(request, document)))


class OutlineView(APIView):
    @extend_schema(request=OutlineSerializer, responses=DocumentSerializer, operation_id="correctOutline")
    def post(self, request: Request, workspace: int, document: int) -> Response:
        """Correct one heading; `undo` takes back every correction of it."""
        given = OutlineSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        row = _row(request, document)
        before = row.corrections
        with transaction.atomic():
            correct_outline(row, _corrections(row, given.validated_data))
            note(OUTLINE_CORRECTED, request, workspace=workspace_of(request), document=row.name, before=before,
                 after=row.corrections)  # fmt: skip
        return Response(_document(_row(request, document)))


class PagePictureView(APIView):
    @extend_schema(responses={(200, "image/png"): OpenApiTypes.BINARY}, operation_id="pagePicture")
    def get(self, request: Request, workspace: int, document: int, page: int) -> HttpResponse:
        """A page of a PDF as a picture, drawn once and kept."""
        row = get_object_or_404(workspace_of(request).documents.select_related("file"), pk=document)
        if not _has_pictures(row):
            raise DocumentError(f"{row.name}: only PDF files have pictures of their pages")
        answer = HttpResponse(page_picture(row, page), content_type="image/png")
        answer["Cache-Control"] = "private, max-age=86400"
        return answer


class PageLinesView(APIView):
    @extend_schema(responses={200: PageStandingSerializer, 400: PROBLEM}, operation_id="pageLines")
    def get(self, request: Request, workspace: int, document: int, page: int) -> Response:
        """Where the text of a page of a PDF stands on it, line by line, and its pictures."""
        row = get_object_or_404(workspace_of(request).documents.select_related("file"), pk=document)
        if not _has_pictures(row) or not 1 <= page <= row.pages:
            raise DocumentError(f"{row.name}: page {page} is no page of a PDF file that can be seen")
        return Response(page_standing(row, page))


class FigureView(APIView):
    @extend_schema(
        responses={(200, "image/png"): OpenApiTypes.BINARY, (200, "image/jpeg"): OpenApiTypes.BINARY},
        operation_id="figure",
    )
    def get(self, request: Request, workspace: int, document: int, number: int) -> HttpResponse:
        """A picture of a document, drawn from its file once and kept."""
        return figure_of(workspace_of(request), document, number)


def _row(request: Request, document: int) -> Document:
    rows = workspace_of(request).documents.select_related("file", "workspace")
    return get_object_or_404(rows.prefetch_related("sections", "versions"), pk=document)


def _has_pictures(row: Document) -> bool:
    return row.file is not None and row.file.name.lower().endswith(".pdf")


def _corrections(row: Document, given: dict[str, Any]) -> list[Correction]:
    """The corrections of a document with one more, or without those of one heading."""
    found = next((block for block in row.found if block[1] <= given["start"] < max(block[2], block[1] + 1)), None)
    if found is None:
        raise DocumentError(f"start: no block of {row.name} stands at {given['start']}")
    core = core_document(row)
    current = next((block for block in core.blocks if block.start == given["start"]), None)
    whole = " ".join(row.text[found[1] : (current.end if current else found[2])].split())
    heading = " ".join((given.get("heading") or whole).split())
    before = [Correction.from_json(body) for body in row.corrections]
    action, value = given["action"], given["value"]
    occurrence = occurrence_of(row.text, core.blocks, given["start"], heading)
    mine = [one for one in before if one.heading == heading and one.occurrence == occurrence]
    if action == UNDO:
        return [one for one in before if one not in mine]
    fresh = Correction.from_json(
        {"heading": heading, "occurrence": max(occurrence, 1), "action": action, "value": value}
    )
    return [one for one in before if one not in mine or one.action != action] + [fresh]


def _metadata(metadata: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"key": key, "kind": kind_of(value), "value": value} for key, value in metadata.items()]


def _document(row: Document) -> dict[str, Any]:
    core = core_document(row)
    why: dict[int, list[str]] = {}
    for doubt in doubts(core.text, core.blocks, core.sections):
        why.setdefault(doubt.section, []).append(doubt.reason)
    return {
        "id": row.pk,
        "name": row.name,
        "title": row.title,
        "text": row.text,
        "version": row.version,
        "words": row.words,
        "pages": row.pages,
        "pictures": _has_pictures(row),
        "figures": figures_of(row),
        "blocks": [
            {"kind": block.kind, "start": block.start, "end": block.end, "level": block.level}
            for block in core.blocks
        ],
        "sections": [
            {
                "index": index,
                "number": section.number,
                "title": section.title,
                "level": section.level,
                "start": section.start,
                "end": section.end,
                "parent": section.parent,
                "page": section.page,
                "dropped": section.dropped,
                "doubts": why.get(index, []),
            }
            for index, section in enumerate(core.sections)
        ],
        "metadata": _metadata(row.metadata),
        "carried": row.carried,
        "corrections": row.corrections,
        "versions": [
            {
                "version": one.version,
                "words": one.words,
                "labels_moved": one.labels_moved,
                "labels_lost": one.labels_lost,
                "corrections_lost": one.corrections_lost,
                "made_at": one.made_at,
            }
            for one in row.versions.all()
        ],
    }
