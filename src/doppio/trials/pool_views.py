"""Pools: made, judged without knowing who found what, agreed upon."""

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers as s
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.jobs.serializers import JobSerializer
from doppio.library.access import person, workspace_of
from doppio.library.events import (
    JUDGEMENT_TAKEN_BACK,
    PASSAGE_JUDGED,
    PASSAGE_SETTLED,
    POOL_MADE,
    POOL_REMOVED,
    note,
)
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.recipes.access import recipe_for
from doppio.trials import pools
from doppio.trials.models import PoolItem

MOST = 50


class PooledRecipeSerializer(s.Serializer):
    name = s.CharField()
    version = s.IntegerField()


class JudgedBySerializer(s.Serializer):
    judge = s.CharField()
    count = s.IntegerField()
    own = s.BooleanField()


class PoolSerializer(s.Serializer):
    id = s.IntegerField()
    name = s.CharField()
    depth = s.IntegerField()
    recipes = PooledRecipeSerializer(many=True)
    made_at = s.DateTimeField()
    items = s.IntegerField()
    own = s.IntegerField(help_text="How many passages the person who asks has judged.")
    judges = JudgedBySerializer(many=True)


class NewPoolSerializer(s.Serializer):
    name = s.CharField(max_length=120)
    recipes = s.ListField(child=s.IntegerField(), min_length=1, max_length=20)
    depth = s.IntegerField(min_value=1, max_value=100, default=5, help_text="First passages of each recipe.")
    set = s.IntegerField(allow_null=True, default=None, help_text="All measured sets where it is left out.")


class ToJudgeSerializer(s.Serializer):
    """A passage without scores, ranks, or the names of the recipes that found it."""

    id = s.IntegerField()
    question = s.IntegerField()
    text = s.CharField()
    document = s.IntegerField()
    title = s.CharField()
    start = s.IntegerField()
    end = s.IntegerField()
    passage = s.CharField()


class GradeSerializer(s.Serializer):
    grade = s.FloatField(help_text="0 to 3; 0 says that no answer stands there.")


class AgreedSerializer(s.Serializer):
    judges = s.ListField(child=s.CharField())
    items = s.IntegerField()
    same = s.IntegerField()
    kappa = s.FloatField(allow_null=True)
    low = s.FloatField(allow_null=True)
    high = s.FloatField(allow_null=True)


class GivenGradeSerializer(s.Serializer):
    judge = s.CharField()
    grade = s.FloatField()


class DifferSerializer(ToJudgeSerializer):
    grades = GivenGradeSerializer(many=True)
    settled = s.FloatField(allow_null=True)
    settled_by = s.CharField(allow_null=True)


class AgreementSerializer(s.Serializer):
    pairs = AgreedSerializer(many=True)
    differ = DifferSerializer(many=True)
    differ_count = s.IntegerField()


class PoolsView(APIView):
    @extend_schema(responses=PoolSerializer(many=True), operation_id="pools")
    def get(self, request: Request, workspace: int) -> Response:
        """The pools, newest first, and how far each is."""
        return Response(pools.listed(workspace_of(request), person(request)))

    @extend_schema(request=NewPoolSerializer, responses={202: JobSerializer, 400: PROBLEM}, operation_id="makePool")
    def post(self, request: Request, workspace: int) -> Response:
        """Ask the recipes and keep what they find first, to be judged."""
        space = workspace_of(request)
        given = NewPoolSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        recipes = [recipe_for(space, number) for number in dict.fromkeys(values["recipes"])]
        with transaction.atomic():
            job = pools.start_pool(space, person(request), values["name"], recipes, values["depth"], values["set"])
            note(POOL_MADE, request, workspace=space, pool=values["name"], depth=values["depth"])
        return Response(JobSerializer(job).data, status=202)


class PoolView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("count", int, description=f"How many; at most {MOST}.")],
        responses=ToJudgeSerializer(many=True),
        operation_id="toJudge",
    )
    def get(self, request: Request, workspace: int, pool: int) -> Response:
        """The next passages that the person who asks has not judged."""
        found = get_object_or_404(workspace_of(request).pools, pk=pool)
        count = request.query_params.get("count", "")
        return Response(pools.to_judge(found, person(request), min(int(count), MOST) if count.isdecimal() else 10))

    @extend_schema(responses={204: None}, operation_id="removePool")
    def delete(self, request: Request, workspace: int, pool: int) -> Response:
        """Remove a pool with its judgements; labels that came of them stay."""
        space = workspace_of(request)
        found = get_object_or_404(space.pools, pk=pool)
        with transaction.atomic():
            note(POOL_REMOVED, request, workspace=space, pool=found.name, items=found.items.count())
            found.delete()
        return Response(status=204)


class PoolItemView(APIView):
    least = {"PUT": Role.JUDGE, "DELETE": Role.JUDGE}

    @extend_schema(request=GradeSerializer, responses={204: None, 400: PROBLEM}, operation_id="judgePassage")
    def put(self, request: Request, workspace: int, pool: int, item: int) -> Response:
        """Grade a passage."""
        given = GradeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        found = _item(request, pool, item)
        with transaction.atomic():
            pools.judge_item(found, person(request), given.validated_data["grade"])
            _noted(PASSAGE_JUDGED, request, found, given.validated_data["grade"])
        return Response(status=204)

    @extend_schema(responses={204: None}, operation_id="takeJudgementBack")
    def delete(self, request: Request, workspace: int, pool: int, item: int) -> Response:
        """Take one's own grade back."""
        found = _item(request, pool, item)
        with transaction.atomic():
            pools.take_back(found, person(request))
            _noted(JUDGEMENT_TAKEN_BACK, request, found, None)
        return Response(status=204)


class SettledView(APIView):
    @extend_schema(request=GradeSerializer, responses={204: None, 400: PROBLEM}, operation_id="settlePassage")
    def put(self, request: Request, workspace: int, pool: int, item: int) -> Response:
        """Decide where judges differ."""
        given = GradeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        found = _item(request, pool, item)
        with transaction.atomic():
            pools.settle(found, person(request), given.validated_data["grade"])
            _noted(PASSAGE_SETTLED, request, found, given.validated_data["grade"])
        return Response(status=204)


class AgreementView(APIView):
    # It shows what others gave, so it is not for those who are still to judge.
    least = {"GET": Role.EDITOR}

    @extend_schema(responses=AgreementSerializer, operation_id="agreement")
    def get(self, request: Request, workspace: int, pool: int) -> Response:
        """How far judges agree, and where they differ."""
        return Response(pools.agreement(get_object_or_404(workspace_of(request).pools, pk=pool)))


def _item(request: Request, pool: int, item: int) -> PoolItem:
    rows = PoolItem.objects.select_related("question__workspace", "document", "label__question__workspace")
    return get_object_or_404(rows.filter(pool__workspace=workspace_of(request), pool=pool), pk=item)


def _noted(kind: str, request: Request, item: PoolItem, grade: float | None) -> None:
    note(kind, request, workspace=workspace_of(request), question=item.question.identity, document=item.document.name,
         start=item.start, end=item.end, grade=grade)  # fmt: skip
