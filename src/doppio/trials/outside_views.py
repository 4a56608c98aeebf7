"""Rankings from elsewhere, brought in as TREC runs."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework import serializers as s
from rest_framework.parsers import MultiPartParser
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library import events
from doppio.library.access import person, workspace_of
from doppio.library.problems import PROBLEM
from doppio.trials import outside
from doppio.trials.models import OutsideRun


class NewRunSerializer(s.Serializer):
    file = s.FileField(help_text="Lines: question, Q0, item, rank, score, tag; an item is a document or a range.")
    name = s.CharField(max_length=120, required=False, help_text="What it is called; the file's name by itself.")


class OutsideRunSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    questions = s.SerializerMethodField()
    made_at = s.DateTimeField()

    def get_questions(self, run: OutsideRun) -> int:
        return len(run.questions)


class RunsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        request={"multipart/form-data": NewRunSerializer},
        responses={201: OutsideRunSerializer, 400: PROBLEM},
        operation_id="addRun",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Measure a TREC run on the labels here; one of the same name is replaced."""
        given = NewRunSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        file = given.validated_data["file"]
        space = workspace_of(request)
        run = outside.add(space, given.validated_data.get("name") or file.name[:120], file.read(), person(request))
        events.note(events.RUN_ADDED, request, workspace=space, run=run.name)
        return Response(OutsideRunSerializer(run).data, status=201)


class RunView(APIView):
    @extend_schema(
        request=None, responses={200: OutsideRunSerializer, 400: PROBLEM, 404: PROBLEM}, operation_id="measureRun"
    )
    def post(self, request: Request, workspace: int, run: int) -> Response:
        """Measure it on the documents and labels of now."""
        return Response(OutsideRunSerializer(outside.measure_again(_one(request, run))).data)

    @extend_schema(responses={204: None, 404: PROBLEM}, operation_id="removeRun")
    def delete(self, request: Request, workspace: int, run: int) -> Response:
        one = _one(request, run)
        events.note(events.RUN_REMOVED, request, workspace=one.workspace, run=one.name)
        one.delete()
        return Response(status=204)


def _one(request: Request, number: int) -> OutsideRun:
    rows = OutsideRun.objects.select_related("workspace")
    return get_object_or_404(rows, workspace=workspace_of(request), pk=number)
