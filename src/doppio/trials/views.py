"""Trials: what each recipe was measured to do."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.measure.intervals import wilson
from doppio.core.measure.measuring import EDITION
from doppio.jobs.serializers import JobSerializer
from doppio.library.access import person, workspace_of
from doppio.library.corpus import corpus_of
from doppio.recipes.access import recipe_for
from doppio.recipes.serializers import RecipeSerializer
from doppio.recipes.services import core_recipe, stage_kinds
from doppio.trials.models import TrialRecord
from doppio.trials.question_history import question_history
from doppio.trials.serializers import NewTrialSerializer, PastTrialSerializer, TrialSerializer
from doppio.trials.services import newest_trials, start_trial


class TrialsView(APIView):
    @extend_schema(responses=TrialSerializer(many=True), operation_id="trials")
    def get(self, request: Request, workspace: int) -> Response:
        """The newest trial of every recipe, newest first."""
        space = workspace_of(request)
        now = (corpus_of(space), space.marked, EDITION)
        return Response([_trial(row, now) for row in newest_trials(space)])

    @extend_schema(request=NewTrialSerializer, responses={202: JobSerializer}, operation_id="startTrial")
    def post(self, request: Request, workspace: int) -> Response:
        given = NewTrialSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        recipe = recipe_for(workspace_of(request), given.validated_data["recipe"])
        return Response(JobSerializer(start_trial(recipe, person(request))).data, status=202)


class PastTrialsView(APIView):
    @extend_schema(responses=PastTrialSerializer(many=True), operation_id="pastTrials")
    def get(self, request: Request, workspace: int, question: int) -> Response:
        """What became of a question in the last trials, the latest first, and what had changed before each."""
        row = get_object_or_404(workspace_of(request).questions, pk=question)
        return Response(PastTrialSerializer(question_history(row), many=True).data)


def _trial(row: TrialRecord, now: tuple[str, int, int]) -> dict[str, Any]:
    low, high = wilson(row.ledger["delivered"], row.answerable)
    fields = ("stages", "levels", "ledger", "seconds", "chunks", "intact", "answerable", "questions", "answers",
              "measured_at")  # fmt: skip
    return {
        "id": row.pk,
        "recipe": RecipeSerializer(row.recipe).data,
        "kinds": stage_kinds(core_recipe(row.recipe)),
        "current": (row.corpus, row.marked, row.measures) == now,
        "low": low,
        "high": high,
        **{name: getattr(row, name) for name in fields},
    }
