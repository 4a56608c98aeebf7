"""Gates: figures that are watched, with their history."""

from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.jobs.models import Job
from doppio.jobs.serializers import JobSerializer
from doppio.library import events
from doppio.library.access import person, workspace_of
from doppio.library.corpus import corpus_of
from doppio.library.problems import PROBLEM
from doppio.recipes.access import recipe_for
from doppio.trials import gates
from doppio.trials.comparing import Measure
from doppio.trials.gate_serializers import GateSerializer, NewGateSerializer
from doppio.trials.models import Gate

SHOWN = 60


class GatesView(APIView):
    @extend_schema(responses=GateSerializer(many=True), operation_id="gates")
    def get(self, request: Request, workspace: int) -> Response:
        """The gates of the workspace, each with its last results."""
        rows = workspace_of(request).gates.select_related("recipe", "workspace")
        return Response([GateSerializer(_shown(gate)).data for gate in rows])

    @extend_schema(request=NewGateSerializer, responses={201: GateSerializer, 400: PROBLEM}, operation_id="makeGate")
    def post(self, request: Request, workspace: int) -> Response:
        """Watch a figure; earlier trials of the recipe are its history."""
        given = NewGateSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        told = given.validated_data
        space = workspace_of(request)
        recipe = recipe_for(space, told["recipe"]) if told["recipe"] is not None else None
        gate = gates.make(
            space, person(request), recipe=recipe, measure=Measure(told["metric"], told["stage"]),
            least=told["least"], worst=told["worst"], every=told["every"],
        )  # fmt: skip
        return Response(GateSerializer(_shown(gate)).data, status=201)


class GateView(APIView):
    @extend_schema(responses={204: None, 404: PROBLEM}, operation_id="removeGate")
    def delete(self, request: Request, workspace: int, gate: int) -> Response:
        """Stop watching; the trials stay."""
        one = _one(request, gate)
        events.note(events.GATE_REMOVED, request, workspace=one.workspace, figure=gates.title_of(one))
        one.delete()
        return Response(status=204)


class LookView(APIView):
    @extend_schema(
        request=None, responses={202: JobSerializer, 400: PROBLEM, 404: PROBLEM}, operation_id="lookAtGate"
    )
    def post(self, request: Request, workspace: int, gate: int) -> Response:
        """Measure what is watched now."""
        return Response(JobSerializer(gates.look(_one(request, gate), person(request))).data, status=202)


class BaselineView(APIView):
    @extend_schema(request=None, responses={200: GateSerializer, 404: PROBLEM}, operation_id="takeBaseline")
    def post(self, request: Request, workspace: int, gate: int) -> Response:
        """Let the newest result be the baseline from now on."""
        return Response(GateSerializer(_shown(gates.take_baseline(_one(request, gate)))).data)


def _one(request: Request, number: int) -> Gate:
    rows = Gate.objects.select_related("workspace", "recipe")
    return get_object_or_404(rows, workspace=workspace_of(request), pk=number)


def _shown(gate: Gate) -> dict[str, Any]:
    space = gate.workspace
    watched = gates.recipe_of(gate)
    # The job before its results: one that was done by then has them.
    busy = space.jobs.filter(kind="trial", state__in=(Job.QUEUED, Job.RUNNING))
    job = busy.filter(details__recipe=watched.pk).first() if watched else None
    results = list(gate.results.select_related("trial__recipe")[:SHOWN])
    for result in results:
        result.against, result.before = result.against or None, result.before or None
    newest = results[0].trial if results else None
    fields = ("id", "recipe", "metric", "stage", "least", "worst", "every", "baseline_id")
    return {
        **{name: getattr(gate, name) for name in fields},
        "title": gates.title_of(gate),
        "current": newest is not None
        and watched is not None
        and (newest.recipe_id, newest.corpus, newest.marked) == (watched.pk, corpus_of(space), space.marked),
        "results": results,
        "job": job,
    }
