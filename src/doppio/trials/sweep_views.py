"""Sweeps: what they would take, starting one, going on with it, and what it found."""

from typing import Any

from django.db.models import Count
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.measure.axes import offers, titles
from doppio.core.measure.sweep_plan import Plan
from doppio.jobs.turns import HEAVY
from doppio.library.access import person, workspace_of
from doppio.library.corpus import corpus_of
from doppio.library.problems import PROBLEM
from doppio.recipes.access import RECIPE, recipe_for
from doppio.recipes.services import core_recipe
from doppio.trials import sweeps
from doppio.trials.models import Sweep, SweepRow
from doppio.trials.sweep_serializers import (
    AxisOfferSerializer,
    NewSweepSerializer,
    OutlookSerializer,
    SweepBodySerializer,
    SweepRowSerializer,
    SweepSerializer,
    SweptSerializer,
)


class AxesView(APIView):
    @extend_schema(parameters=[RECIPE], responses=AxisOfferSerializer(many=True), operation_id="axes")
    def get(self, request: Request, workspace: int) -> Response:
        """Settings of a recipe that a sweep can move, with values to begin with."""
        recipe = recipe_for(workspace_of(request), request.query_params.get("recipe"))
        return Response([vars(one) for one in offers(core_recipe(recipe))])


class OutlookView(APIView):
    @extend_schema(
        request=NewSweepSerializer, responses={200: OutlookSerializer, 400: PROBLEM}, operation_id="sweepOutlook"
    )
    @HEAVY.turn()
    def post(self, request: Request, workspace: int) -> Response:
        """What a sweep would take."""
        given = _given(request)
        recipe = recipe_for(workspace_of(request), given["recipe"])
        return Response(vars(sweeps.outlook(recipe, _wish(given))))


class SweepsView(APIView):
    @extend_schema(responses=SweepSerializer(many=True), operation_id="sweeps")
    def get(self, request: Request, workspace: int) -> Response:
        """The sweeps of the workspace, newest first."""
        space = workspace_of(request)
        found = sweeps.of_workspace(space)
        tried = dict(
            SweepRow.objects.filter(sweep__workspace=space)
            .values_list("sweep")
            .annotate(count=Count("pk"))
            .order_by()
        )
        now = (corpus_of(space), space.marked)
        return Response([SweepSerializer(_swept(sweep, tried.get(sweep.pk, 0), now)).data for sweep in found])

    @extend_schema(
        request=NewSweepSerializer, responses={202: SweepSerializer, 400: PROBLEM}, operation_id="startSweep"
    )
    def post(self, request: Request, workspace: int) -> Response:
        given = _given(request)
        recipe = recipe_for(workspace_of(request), given["recipe"])
        sweep = sweeps.start(recipe, _wish(given), person(request))
        return Response(SweepSerializer(_swept(sweep, 0, None)).data, status=202)


class SweepView(APIView):
    @extend_schema(responses={200: SweptSerializer, 404: PROBLEM}, operation_id="sweep")
    def get(self, request: Request, workspace: int, sweep: int) -> Response:
        """What a sweep has tried so far, and what it would take."""
        one = _one(request, sweep)
        rows = list(one.rows.defer("values"))
        space = workspace_of(request)
        planned = sweeps.wish_of(one).plan(core_recipe(one.recipe))
        heights = one.found.get("heights", {})
        return Response(
            {
                **SweepSerializer(_swept(one, len(rows), (corpus_of(space), space.marked))).data,
                "settings": len(planned.rows),
                "moved": _moved(one, planned),
                "rows": [
                    SweepRowSerializer(
                        {
                            "place": row.place,
                            "settings": row.settings,
                            "mean": row.mean,
                            "asked": row.asked,
                            "height": heights.get(str(row.place)),
                        }
                    ).data
                    for row in rows
                ],
                "chosen": {name: one.found[name] for name in CHOSEN} if one.found else None,
            }
        )

    @extend_schema(responses={204: None, 404: PROBLEM}, operation_id="removeSweep")
    def delete(self, request: Request, workspace: int, sweep: int) -> Response:
        """Remove a sweep; one that runs is cancelled."""
        sweeps.remove(_one(request, sweep))
        return Response(status=204)


class GoOnView(APIView):
    @extend_schema(
        request=None, responses={202: SweepSerializer, 400: PROBLEM, 404: PROBLEM}, operation_id="goOnWithSweep"
    )
    def post(self, request: Request, workspace: int, sweep: int) -> Response:
        """Go on with a sweep that was cancelled or failed; what was tried stays."""
        one = sweeps.go_on(_one(request, sweep), person(request))
        return Response(SweepSerializer(_swept(one, one.rows.count(), None)).data, status=202)


class SweepBodyView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("row", int, required=True)],
        responses={200: SweepBodySerializer, 404: PROBLEM},
        operation_id="sweptRecipe",
    )
    def get(self, request: Request, workspace: int, sweep: int) -> Response:
        """The recipe with the settings of a row, to be saved."""
        row = request.query_params.get("row", "")
        one = get_object_or_404(_one(request, sweep).rows, place=int(row) if row.isdecimal() else -1)
        return Response({"body": sweeps.recipe_with(one.sweep, one.place)})


CHOSEN = ("chosen", "flattering", "honest", "against", "said", "picked")


def _given(request: Request) -> dict[str, Any]:
    given = NewSweepSerializer(data=request.data)
    given.is_valid(raise_exception=True)
    return dict(given.validated_data)


def _wish(given: dict[str, Any]) -> sweeps.Wish:
    return sweeps.Wish(given["axes"], given["figure"], given["by"], given["most"], given["seed"])


def _one(request: Request, number: int) -> Sweep:
    rows = Sweep.objects.select_related("recipe", "job", "workspace")
    return get_object_or_404(rows, workspace=workspace_of(request), pk=number)


def _swept(sweep: Sweep, tried: int, now: tuple[str, int] | None) -> dict[str, Any]:
    return {
        "id": sweep.pk,
        "recipe": sweep.recipe,
        "axes": sweep.axes,
        "figure": sweep.figure,
        "by": sweep.by,
        "job": sweep.job,
        "tried": tried,
        "questions": len(sweep.questions),
        "current": now is None or (sweep.corpus, sweep.marked) == now,
        "done": bool(sweep.found),
        "made_at": sweep.made_at,
    }


def _moved(sweep: Sweep, planned: Plan) -> list[dict[str, Any]]:
    called = titles(core_recipe(sweep.recipe))
    return [
        {"path": axis.path, "title": called.get(axis.path, axis.path), "values": list(axis.values)}
        for axis in planned.axes
    ]
