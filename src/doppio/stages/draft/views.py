"""A draft: measured, and asked one question."""

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.serializers import ValidationError
from rest_framework.views import APIView

from doppio.core.recipe.check import check
from doppio.jobs.turns import ASKING, HEAVY
from doppio.library.access import workspace_of
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.recipes.access import recipe_for
from doppio.recipes.opened import answered
from doppio.stages.asked.beside import beside_of
from doppio.stages.asked.serializers import AskedSerializer
from doppio.stages.asked.service import asked_body
from doppio.stages.asked.views import labelled_answer
from doppio.stages.draft.serializers import DraftQuestionSerializer, DraftRequestSerializer, DraftSerializer
from doppio.stages.draft.service import drafted


class DraftView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=DraftRequestSerializer,
        responses={200: DraftSerializer, 400: PROBLEM, 409: PROBLEM},
        operation_id="draft",
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """The labelled questions under a recipe that need not be kept."""
        given = DraftRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        recipe = recipe_for(workspace_of(request), given.validated_data.get("recipe"))
        return Response(drafted(recipe, check(given.validated_data["body"])))


class DraftQuestionView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=DraftQuestionSerializer,
        responses={200: AskedSerializer, 400: PROBLEM, 409: PROBLEM},
        operation_id="askDraft",
    )
    @ASKING.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """One question, labelled or typed, under a recipe that need not be kept."""
        space = workspace_of(request)
        given = DraftQuestionSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        draft, beside = check(values["body"]), beside_of(values)
        if "question" in values:
            row = get_object_or_404(
                space.questions.prefetch_related("spans__document__sections"), pk=values["question"]
            )
            return Response(labelled_answer(space, draft, row, beside))
        if not values.get("text") and not values.get("picture"):
            raise ValidationError("name a labelled question, or give a text or a picture")
        return Response(asked_body(space, *answered(space, draft, values.get("text", ""), beside), None))
