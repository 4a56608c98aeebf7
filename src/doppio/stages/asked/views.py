"""Questions: the labelled ones with what became of them, and any other, asked now."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.measure.ledger import cause
from doppio.core.measure.relevance import relevance
from doppio.jobs.turns import ASKING
from doppio.library.access import person, workspace_for
from doppio.library.problems import PROBLEM
from doppio.library.views import page_size
from doppio.questions.asked import ask
from doppio.questions.services import core_question, positions
from doppio.recipes.access import recipe_for
from doppio.recipes.opened import answered
from doppio.recipes.services import core_recipe
from doppio.stages.asked.serializers import (
    AskedBeforeSerializer,
    AskedSerializer,
    AskSerializer,
    QuestionRowSerializer,
)
from doppio.stages.asked.service import ASKED_SHOWN, asked_body, question_row, shown_spans
from doppio.stages.asking import RECIPE
from doppio.trials.models import TrialRow
from doppio.trials.services import latest_trial


class QuestionsView(APIView):
    @extend_schema(
        parameters=[
            RECIPE,
            OpenApiParameter("after", int, description="Only questions after this one, by its id."),
            OpenApiParameter("limit", int, description="At most so many; 1000 where it is left out, and never more."),
        ],
        responses=QuestionRowSerializer(many=True),
        operation_id="questions",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """The questions in their order, a page at a time, with what became of each."""
        space = workspace_for(request, workspace)
        trial = latest_trial(recipe_for(space, request.query_params.get("recipe")))
        questions = space.questions.prefetch_related("spans")
        after = request.query_params.get("after", "")
        if after.isdecimal():
            questions = questions.filter(position__gt=get_object_or_404(space.questions, pk=int(after)).position)
        rows = list(questions[: page_size(request)])
        kept = trial.rows.filter(question__in=rows) if trial else TrialRow.objects.none()
        found = {row["question_id"]: row for row in kept.values("question_id", "cause", "ranks", "intact")}
        return Response([question_row(row, found.get(row.pk)) for row in rows])


class QuestionView(APIView):
    @extend_schema(parameters=[RECIPE], responses={200: AskedSerializer, 409: PROBLEM}, operation_id="question")
    @ASKING.turn()
    def get(self, request: Request, workspace: int, question: int) -> Response:
        """A labelled question, asked now."""
        space = workspace_for(request, workspace)
        row = get_object_or_404(space.questions.prefetch_related("spans__document__sections"), pk=question)
        recipe = recipe_for(space, request.query_params.get("recipe"))
        pipeline, trace = answered(space, core_recipe(recipe), row.text)
        labelled = core_question(row)
        relevant = relevance(pipeline.chunks, positions(pipeline), labelled)
        body = asked_body(space, pipeline, trace, relevant)
        body["question"] = question_row(row, None)
        body["spans"] = shown_spans(row, relevant)
        body["cause"] = cause(trace, relevant, labelled.answerable)
        return Response(body)


class AskView(APIView):
    @extend_schema(responses=AskedBeforeSerializer(many=True), operation_id="askedBefore")
    def get(self, request: Request, workspace: int) -> Response:
        """What this person asked before, the latest first."""
        rows = workspace_for(request, workspace).asked.filter(asked_by=person(request))
        return Response(AskedBeforeSerializer(rows[:ASKED_SHOWN], many=True).data)

    @extend_schema(request=AskSerializer, responses={200: AskedSerializer, 409: PROBLEM}, operation_id="ask")
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Any question, asked now."""
        asked = AskSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        space = workspace_for(request, workspace)
        recipe = recipe_for(space, asked.validated_data.get("recipe"))
        pipeline, trace = ask(recipe, asked.validated_data["text"], person(request))
        return Response(asked_body(space, pipeline, trace, None))
