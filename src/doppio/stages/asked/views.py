"""Questions: the labelled ones with what became of them, and any other, asked now."""

from typing import Any

from django.db import transaction
from django.db.models import Exists, OuterRef
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.measure.ledger import cause
from doppio.core.measure.relevance import relevance, relevance_of_each
from doppio.core.question.reading import Beside
from doppio.core.recipe.recipe import Recipe
from doppio.jobs.turns import ASKING
from doppio.library.access import check_role, membership_of, person, workspace_of
from doppio.library.events import QUESTION_CHANGED, QUESTION_REMOVED, QUESTION_WRITTEN, note
from doppio.library.models import Role, Workspace
from doppio.library.problems import PROBLEM
from doppio.library.views import page_size
from doppio.questions.asked import ask
from doppio.questions.models import AnswerSpan, Question
from doppio.questions.services import core_question, is_labelled, positions
from doppio.questions.writing import change_question, remove_question, set_for, write_question
from doppio.recipes.access import RECIPE, recipe_for
from doppio.recipes.opened import NotBuilt, answered
from doppio.recipes.services import core_recipe
from doppio.stages.asked.beside import BesideSerializer, beside_of
from doppio.stages.asked.serializers import (
    AskedBeforeSerializer,
    AskedSerializer,
    AskSerializer,
    ChangeQuestionSerializer,
    QuestionRowSerializer,
    WriteQuestionSerializer,
)
from doppio.stages.asked.service import (
    ASKED_SHOWN,
    asked_body,
    labelled_body,
    no_answers,
    question_fields,
    question_row,
    shown_spans,
)
from doppio.trials.models import TrialRow
from doppio.trials.services import last_trial


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
        space = workspace_of(request)
        trial = last_trial(recipe_for(space, request.query_params.get("recipe")))
        graded = AnswerSpan.objects.filter(question=OuterRef("pk"), grade__gt=0)
        questions = space.questions.annotate(
            answered=Exists(graded.filter(lost=False)), adrift=Exists(graded.filter(lost=True))
        )
        after = request.query_params.get("after", "")
        if after.isdecimal():
            questions = questions.filter(position__gt=get_object_or_404(space.questions, pk=int(after)).position)
        rows = list(questions[: page_size(request)])
        # What has changed since is not what was measured.
        same = [row for row in rows if trial and row.marked <= trial.marked]
        kept = trial.rows.filter(question__in=same) if trial else TrialRow.objects.none()
        found = {row["question_id"]: row for row in kept.values("question_id", "cause", "ranks", "intact")}
        return Response(
            [question_fields(row, found.get(row.pk), row.answered, row.adrift and not row.answered) for row in rows]
        )

    @extend_schema(
        request=WriteQuestionSerializer,
        responses={201: QuestionRowSerializer, 400: PROBLEM},
        operation_id="writeQuestion",
    )
    def post(self, request: Request, workspace: int) -> Response:
        """A new question; it waits for a label, or for the mark that nothing answers it."""
        space = workspace_of(request)
        given = WriteQuestionSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        with transaction.atomic():
            made = write_question(
                space, values["text"], tags=values.get("tags", ()), into=set_for(space, values.get("set")),
                group=values.get("group", ""), only=values.get("only", ""),
            )  # fmt: skip
            note(QUESTION_WRITTEN, request, workspace=space, question=made.identity, text=made.text)
        return Response(question_row(made, None), status=201)


class QuestionView(APIView):
    # To say that nothing answers it is a judgement; all else changes the question.
    least = {"PATCH": Role.JUDGE}

    @extend_schema(
        parameters=[RECIPE, BesideSerializer],
        responses={200: AskedSerializer, 400: PROBLEM, 409: PROBLEM},
        operation_id="question",
    )
    @ASKING.turn()
    def get(self, request: Request, workspace: int, question: int) -> Response:
        """A question with its labels, asked now; without a trace where the indexes are not built."""
        space = workspace_of(request)
        row = get_object_or_404(space.questions.prefetch_related("spans__document__sections"), pk=question)
        recipe = recipe_for(space, request.query_params.get("recipe"))
        beside = BesideSerializer(data=request.query_params)
        beside.is_valid(raise_exception=True)
        try:
            return Response(labelled_answer(space, core_recipe(recipe), row, beside_of(beside.validated_data)))
        except NotBuilt:
            # Its answers can be shown and marked all the same.
            return Response(labelled_body(row))

    @extend_schema(
        request=ChangeQuestionSerializer,
        responses={200: QuestionRowSerializer, 400: PROBLEM},
        operation_id="changeQuestion",
    )
    def patch(self, request: Request, workspace: int, question: int) -> Response:
        """Change its words, tags, set, group, conditions or picture, or say that nothing answers it."""
        given = ChangeQuestionSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        changes = dict(given.validated_data)
        if set(changes) != {"unanswerable"}:
            check_role(membership_of(request), Role.EDITOR)
        space = workspace_of(request)
        row = _editable(space, question)
        if "set" in changes:
            changes["set"] = set_for(space, changes["set"])
        with transaction.atomic():
            changed = change_question(row, **changes)
            note(QUESTION_CHANGED, request, workspace=space, question=row.identity, changes=changed)
        return Response(question_row(row, None))

    @extend_schema(responses={204: None}, operation_id="removeQuestion")
    def delete(self, request: Request, workspace: int, question: int) -> Response:
        """Remove it with its labels; history keeps what it was."""
        space = workspace_of(request)
        row = _editable(space, question)
        with transaction.atomic():
            identity = row.identity
            note(QUESTION_REMOVED, request, workspace=space, question=identity, was=remove_question(row))
        return Response(status=204)


def _editable(space: Workspace, number: int) -> Question:
    return get_object_or_404(space.questions.select_related("set", "workspace").prefetch_related("spans"), pk=number)


def labelled_answer(space: Workspace, recipe: Recipe, row: Question, beside: Beside) -> dict[str, Any]:
    """A question with its labels, asked now under a recipe.

    Raises
    ------
    NotBuilt
        If something of the recipe has to be built first.
    """
    labelled = core_question(row)
    pipeline, trace = answered(space, recipe, row.text, beside.with_own(labelled.beside))
    relevant = relevance(pipeline.chunks, positions(pipeline), labelled) if is_labelled(row) else None
    body = asked_body(space, pipeline, trace, relevant)
    body["question"] = question_row(row, None)
    if relevant is not None:
        each = relevance_of_each(pipeline.chunks, positions(pipeline), labelled.spans)
        body["spans"] = shown_spans(row, each)
        body["cause"] = cause(trace, relevant, labelled.answerable)
    body["no_answers"] = no_answers(row)
    return body


class AskView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(responses=AskedBeforeSerializer(many=True), operation_id="askedBefore")
    def get(self, request: Request, workspace: int) -> Response:
        """What this person asked before, the latest first."""
        rows = workspace_of(request).asked.filter(asked_by=person(request))
        return Response(AskedBeforeSerializer(rows[:ASKED_SHOWN], many=True).data)

    @extend_schema(
        request=AskSerializer, responses={200: AskedSerializer, 400: PROBLEM, 409: PROBLEM}, operation_id="ask"
    )
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """Any question, asked now."""
        space = workspace_of(request)
        asked = AskSerializer(data=request.data)
        asked.is_valid(raise_exception=True)
        recipe = recipe_for(space, asked.validated_data.get("recipe"))
        beside = beside_of(asked.validated_data)
        pipeline, trace = ask(recipe, asked.validated_data["text"], person(request), beside)
        return Response(asked_body(space, pipeline, trace, None))
