"""Question sets and labels; questions themselves are where they are asked."""

from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import person, workspace_of
from doppio.library.events import LABEL_CHANGED, LABEL_GIVEN, LABEL_REMOVED, SET_CHANGED, SET_MADE, SET_REMOVED, note
from doppio.library.models import Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.questions.labels import lost_labels
from doppio.questions.models import AnswerSpan
from doppio.questions.serializers import (
    ChangeSetSerializer,
    LabelGradeSerializer,
    LabelPlaceSerializer,
    LabelSerializer,
    LostLabelSerializer,
    NewLabelSerializer,
    NewSetSerializer,
    QuestionSetSerializer,
)
from doppio.questions.sets import change_set, make_set, remove_set, sets_of
from doppio.questions.writing import add_label, change_label, remove_label


class SetsView(APIView):
    @extend_schema(responses=QuestionSetSerializer(many=True), operation_id="questionSets")
    def get(self, request: Request, workspace: int) -> Response:
        """The question sets of a workspace."""
        return Response(sets_of(workspace_of(request)))

    @extend_schema(
        request=NewSetSerializer, responses={201: QuestionSetSerializer, 400: PROBLEM}, operation_id="makeQuestionSet"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """An empty set."""
        space = workspace_of(request)
        given = NewSetSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            made = make_set(space, **given.validated_data)
            note(SET_MADE, request, workspace=space, set=made.name)
        return Response(next(row for row in sets_of(space) if row["id"] == made.pk), status=201)


class SetView(APIView):
    @extend_schema(request=ChangeSetSerializer, responses={204: None, 400: PROBLEM}, operation_id="changeQuestionSet")
    def patch(self, request: Request, workspace: int, number: int) -> Response:
        """Change its name or note, or whether trials ask its questions."""
        space = workspace_of(request)
        given = ChangeSetSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        found = get_object_or_404(space.question_sets, pk=number)
        before = {name: getattr(found, name) for name in given.validated_data}
        with transaction.atomic():
            change_set(found, **given.validated_data)
            after = dict(given.validated_data)
            note(SET_CHANGED, request, workspace=space, set=found.name, before=before, after=after)
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="removeQuestionSet")
    def delete(self, request: Request, workspace: int, number: int) -> Response:
        """Remove a set with its questions and their labels."""
        space = workspace_of(request)
        found = get_object_or_404(space.question_sets, pk=number)
        with transaction.atomic():
            note(SET_REMOVED, request, workspace=space, set=found.name, questions=found.questions.count())
            remove_set(found)
        return Response(status=204)


class LostLabelsView(APIView):
    @extend_schema(responses=LostLabelSerializer(many=True), operation_id="lostLabels")
    def get(self, request: Request, workspace: int) -> Response:
        """Labels that lost their place when their document changed or went."""
        return Response(lost_labels(workspace_of(request)))


class LabelsView(APIView):
    least = {"POST": Role.JUDGE}

    @extend_schema(
        request=NewLabelSerializer, responses={201: LabelSerializer, 400: PROBLEM}, operation_id="giveLabel"
    )
    def post(self, request: Request, workspace: int, question: int) -> Response:
        """Say that a range of a document answers a question; judged again, it is judged anew."""
        space = workspace_of(request)
        given = NewLabelSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        found = get_object_or_404(space.questions.select_related("workspace").prefetch_related("spans"), pk=question)
        values = given.validated_data
        document = get_object_or_404(space.documents, pk=values["document"])
        same = found.spans.filter(document=document, start=values["start"], end=values["end"], lost=False).first()
        before = {"before": same.grade} if same is not None else {}
        with transaction.atomic():
            label = add_label(found, document, values["start"], values["end"], values["grade"], person(request))
            _noted(LABEL_GIVEN, request, space, label, **before)
        return Response(_label(label), status=201)


class LabelView(APIView):
    least = {"PUT": Role.JUDGE, "PATCH": Role.JUDGE, "DELETE": Role.JUDGE}

    @extend_schema(
        request=LabelPlaceSerializer, responses={200: LabelSerializer, 400: PROBLEM}, operation_id="placeLabel"
    )
    def put(self, request: Request, workspace: int, label: int) -> Response:
        """Put a label where a person says."""
        space = workspace_of(request)
        given = LabelPlaceSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        span = _span(space, label)
        values = given.validated_data
        document = get_object_or_404(space.documents, pk=values["document"])
        before = [span.start, span.end]
        with transaction.atomic():
            change_label(span, person(request), document=document, start=values["start"], end=values["end"])
            _noted(LABEL_CHANGED, request, space, span, before=before)
        return Response(_label(span))

    @extend_schema(
        request=LabelGradeSerializer, responses={200: LabelSerializer, 400: PROBLEM}, operation_id="gradeLabel"
    )
    def patch(self, request: Request, workspace: int, label: int) -> Response:
        """Give a label another grade."""
        space = workspace_of(request)
        given = LabelGradeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        span = _span(space, label)
        before = span.grade
        with transaction.atomic():
            change_label(span, person(request), grade=given.validated_data["grade"])
            _noted(LABEL_CHANGED, request, space, span, before=before)
        return Response(_label(span))

    @extend_schema(responses={204: None}, operation_id="removeLabel")
    def delete(self, request: Request, workspace: int, label: int) -> Response:
        """Remove a label; its question stays, and waits for another one where it has none."""
        space = workspace_of(request)
        span = _span(space, label)
        with transaction.atomic():
            _noted(LABEL_REMOVED, request, space, span, quote=span.quote)
            remove_label(span)
        return Response(status=204)


def _span(space: Workspace, number: int) -> AnswerSpan:
    rows = AnswerSpan.objects.select_related("question__workspace", "document", "judge")
    return get_object_or_404(rows.filter(question__workspace=space), pk=number)


def _noted(kind: str, request: Request, space: Workspace, span: AnswerSpan, **more: Any) -> None:
    name = span.document.name if span.document else span.document_name
    note(kind, request, workspace=space, question=span.question.identity, document=name, start=span.start,
         end=span.end, grade=span.grade, **more)  # fmt: skip


def _label(span: AnswerSpan) -> dict[str, Any]:
    return {
        "id": span.pk,
        "question": span.question_id,
        "document": span.document_id,
        "start": span.start,
        "end": span.end,
        "grade": span.grade,
        "judge": span.judge.get_username() if span.judge else None,
    }
