"""Labels that lost their place, and the place that a person gives them."""

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import workspace_for
from doppio.library.events import LABEL_REMOVED, note
from doppio.library.problems import PROBLEM
from doppio.library.signals import settled
from doppio.questions.labels import lost_labels, place_label, remove_label
from doppio.questions.models import AnswerSpan
from doppio.questions.serializers import LabelPlaceSerializer, LostLabelSerializer


class LostLabelsView(APIView):
    @extend_schema(responses=LostLabelSerializer(many=True), operation_id="lostLabels")
    def get(self, request: Request, workspace: int) -> Response:
        """Labels that lost their place when their document changed or went."""
        return Response(lost_labels(workspace_for(request, workspace)))


class LabelView(APIView):
    @extend_schema(request=LabelPlaceSerializer, responses={204: None, 400: PROBLEM}, operation_id="placeLabel")
    def put(self, request: Request, workspace: int, label: int) -> Response:
        """Put a label where a person says."""
        given = LabelPlaceSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        space = workspace_for(request, workspace)
        span = get_object_or_404(AnswerSpan.objects.filter(question__workspace=space), pk=label)
        document = get_object_or_404(space.documents, pk=given.validated_data["document"])
        place_label(span, document, given.validated_data["start"], given.validated_data["end"])
        settled.send(AnswerSpan, workspace=space)
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="removeLabel")
    def delete(self, request: Request, workspace: int, label: int) -> Response:
        """Remove a label; a question without another one goes with it."""
        space = workspace_for(request, workspace)
        span = get_object_or_404(
            AnswerSpan.objects.select_related("question").filter(question__workspace=space), pk=label
        )
        with transaction.atomic():
            note(LABEL_REMOVED, request, workspace=space, question=span.question.identity, quote=span.quote,
                 document=span.document_name or (span.document.name if span.document else ""))  # fmt: skip
            remove_label(span)
        settled.send(AnswerSpan, workspace=space)
        return Response(status=204)
