"""Comparisons: recipes against a baseline, and two of them question by question."""

from dataclasses import asdict
from typing import Any

from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DoppioError
from doppio.core.measure.comparing import in_words
from doppio.library.access import person, workspace_of
from doppio.library.models import Workspace
from doppio.library.problems import PROBLEM
from doppio.recipes.serializers import RecipeSerializer
from doppio.trials.comparing import Cell, Column, Measure, by_question, comparison
from doppio.trials.figures import REACHED
from doppio.trials.models import TrialRecord
from doppio.trials.serializers import ComparedQuestionsSerializer, ComparisonSerializer

MEASURE = [
    OpenApiParameter("metric", str, description="Such as recall@5; `delivered` where it is left out."),
    OpenApiParameter("stage", str, description="The kind of stage that it is measured after; `context` by itself."),
    OpenApiParameter("nth", int, description="Which one of several of that kind, from 0."),
]


class ComparisonView(APIView):
    @extend_schema(
        parameters=[
            *MEASURE,
            OpenApiParameter("baseline", int, description="A recipe; the one in force where it is left out."),
            OpenApiParameter("beside", str, description="Other workspaces of yours, by number, with commas."),
        ],
        responses={200: ComparisonSerializer, 400: PROBLEM},
        operation_id="comparison",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """The newest trial of every recipe against a baseline, over each set of questions and each workspace."""
        measure = _measure(request)
        found = comparison(_spaces(request), measure, _number(request, "baseline"))
        return Response(
            {
                "metric": measure.metric,
                "metrics": found.metrics,
                "baseline": found.baseline.pk if found.baseline else None,
                "columns": [_column(column) for column in found.columns],
                "rows": [
                    {
                        "title": row.title,
                        "recipe": RecipeSerializer(row.recipe).data if row.recipe else None,
                        "run": row.run.pk if row.run else None,
                        "costs": dict(costs),
                        "cells": [_cell(cell) for cell in cells],
                    }
                    for row, costs, cells in zip(found.rows, found.costs, found.cells, strict=True)
                ],
                "lacking": [f"{trial.recipe.name} v{trial.recipe.version}" for trial in found.lacking],
            }
        )


class PairsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("first", int, required=True, description="A trial."),
            OpenApiParameter("second", int, required=True, description="Another one."),
            *MEASURE,
        ],
        responses={200: ComparedQuestionsSerializer, 400: PROBLEM},
        operation_id="comparedQuestions",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """Two trials question by question, the largest change first."""
        first, second = (_trial(request, name) for name in ("first", "second"))
        found = by_question(first, second, _measure(request))
        return Response(
            {
                "first": RecipeSerializer(first.recipe).data,
                "second": RecipeSerializer(second.recipe).data,
                "whole": asdict(found.whole),
                "said": in_words(found.whole, found.whole.p),
                "shares": [asdict(share) for share in found.shares],
                "steadiness": asdict(found.steadiness) if found.steadiness else None,
                "questions": [
                    {
                        "question": row.question.pk,
                        "identity": row.question.identity,
                        "text": row.question.text,
                        "set": row.question.set.name,
                        "tags": row.question.tags,
                        "before": row.before,
                        "after": row.after,
                        "causes": list(row.causes),
                        "parts": row.parts,
                    }
                    for row in found.pairs
                ],
            }
        )


def _measure(request: Request) -> Measure:
    given = request.query_params
    return Measure(given.get("metric") or REACHED, given.get("stage") or "context", _number(request, "nth") or 0)


def _number(request: Request, name: str) -> int | None:
    text = request.query_params.get(name, "")
    if not text:
        return None
    if not text.isdecimal():
        raise DoppioError(f"{name}: {text!r} is not a whole number from 0")
    return int(text)


def _trial(request: Request, name: str) -> TrialRecord:
    number = _number(request, name)
    return get_object_or_404(workspace_of(request).trials.select_related("recipe", "workspace"), pk=number)


def _spaces(request: Request) -> list[Workspace]:
    """The workspace, and those of the person's that shall stand beside it, each once."""
    own = workspace_of(request)
    named = [part.strip() for part in request.query_params.get("beside", "").split(",") if part.strip()]
    if wrong := [part for part in named if not part.isdecimal()]:
        raise DoppioError(f"beside: {wrong[0]!r} is not the number of a workspace")
    numbers = {int(part) for part in named} - {own.pk}
    others = Workspace.objects.filter(pk__in=numbers, members=person(request), removed_at=None).order_by("pk")
    if lacking := numbers - {space.pk for space in others}:
        raise DoppioError(f"beside: {min(lacking)} is no workspace of yours")
    return [own, *others]


def _column(column: Column) -> dict[str, Any]:
    return {
        "workspace": column.workspace.pk,
        "workspace_name": column.workspace.name,
        "set": column.set.pk if column.set else None,
        "title": column.set.name if column.set else "all questions",
        "questions": len(column.questions),
    }


def _cell(cell: Cell) -> dict[str, Any]:
    return {**asdict(cell), "difference": asdict(cell.difference) if cell.difference else None}
