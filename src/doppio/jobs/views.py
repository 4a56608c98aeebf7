"""Jobs: how far they are, and how to stop them."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.jobs.running import request_cancel
from doppio.jobs.serializers import JobSerializer
from doppio.library.access import workspace_of

SHOWN = 20


class JobsView(APIView):
    @extend_schema(responses=JobSerializer(many=True), operation_id="jobs")
    def get(self, request: Request, workspace: int) -> Response:
        return Response(JobSerializer(workspace_of(request).jobs.all()[:SHOWN], many=True).data)


class JobCancelView(APIView):
    @extend_schema(request=None, responses=JobSerializer, operation_id="cancelJob")
    def post(self, request: Request, workspace: int, job: int) -> Response:
        found = get_object_or_404(workspace_of(request).jobs, pk=job)
        return Response(JobSerializer(request_cancel(found)).data)
