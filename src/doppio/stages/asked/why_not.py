"""Why a passage is not handed on for a question."""

from dataclasses import asdict
from typing import Any

import numpy as np
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers as s
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DoppioError
from doppio.core.measure.axes import offers
from doppio.core.measure.relevance import relevance
from doppio.core.measure.why_not import WITHOUT, why_not
from doppio.core.pipeline import Pipeline
from doppio.core.question.reading import NOTHING_BESIDE
from doppio.jobs.turns import ASKING
from doppio.library.problems import PROBLEM
from doppio.questions.services import core_question, positions
from doppio.recipes.access import RECIPE
from doppio.stages.asking import asked_pipeline, check_chunk


class StoodSerializer(s.Serializer):
    stage = s.CharField()
    kind = s.CharField()
    rank = s.IntegerField(allow_null=True, help_text="From 1, also beyond the depth; null where it was not there.")
    score = s.FloatField(allow_null=True)
    last = s.FloatField(allow_null=True, help_text="Of the last one that went on from there.")
    on = s.BooleanField()
    reason = s.CharField(allow_blank=True)


class NeededChangeSerializer(s.Serializer):
    path = s.CharField()
    title = s.CharField()
    now = s.JSONField(allow_null=True)
    needed = s.JSONField(allow_null=True)


class WhyNotSerializer(s.Serializer):
    chunk = s.IntegerField()
    document = s.CharField()
    text = s.CharField()
    stood = StoodSerializer(many=True)
    left = s.CharField(allow_blank=True, help_text="The stage that it left at; empty where it is handed on.")
    lacking = s.ListField(child=s.CharField(), help_text="Terms of the question that it does not hold.")
    changes = NeededChangeSerializer(many=True, help_text="Each of which alone would bring it into the context.")


class WhyNotView(APIView):
    @extend_schema(
        parameters=[
            RECIPE,
            OpenApiParameter("question", int, description="A labelled question; or `text` and a chunk."),
            OpenApiParameter("text", str, description="Any question."),
            OpenApiParameter("chunk", int, description="A chunk; the answers' own where it is left out."),
            OpenApiParameter("document", int, description="Or a document, with `start` and `end` of a stretch."),
            OpenApiParameter("start", int, description="In code points."),
            OpenApiParameter("end", int),
        ],
        responses={200: WhyNotSerializer, 400: PROBLEM, 404: PROBLEM, 409: PROBLEM},
        operation_id="whyNot",
    )
    @ASKING.turn()
    def get(self, request: Request, workspace: int) -> Response:
        """Where a passage stood at each stage, what it lacked, and which single change would have brought it in."""
        space, pipeline = asked_pipeline(request)
        given = request.query_params
        text, number = given.get("text", "").strip(), given.get("question", "")
        row = None
        if number:
            rows = space.questions.prefetch_related("spans__document")
            row = get_object_or_404(rows, pk=int(number) if number.isdecimal() else -1)
            text = row.text
        if not text:
            raise DoppioError("question: name a labelled question, or give a text")
        wanted, document = given.get("chunk", ""), given.get("document", "")
        if wanted:
            chunks = [_number(pipeline, wanted)]
        elif document:
            name = get_object_or_404(space.documents.only("name"), pk=_whole("document", document)).name
            chunks = _of_stretch(pipeline, name, *(_whole(side, given.get(side, "")) for side in ("start", "end")))
        elif row is not None:
            found = relevance(pipeline.chunks, positions(pipeline), core_question(row))
            chunks = sorted({chunk for own in found.chunks for chunk in own.tolist()})
        else:
            chunks = []
        if not chunks:
            raise DoppioError("chunk: no chunk holds an answer of this question; name one")
        told = why_not(pipeline, text, chunks, core_question(row).beside if row else NOTHING_BESIDE)
        titles = {one.path: one.title for one in offers(pipeline.recipe)} | {WITHOUT: "Reranking"}
        return Response({**_shown(pipeline, told.chunk), **asdict(told), "changes": [
            {**asdict(change), "title": titles.get(change.path, change.path)} for change in told.changes
        ]})  # fmt: skip


def _whole(name: str, text: str) -> int:
    if not text.isdecimal() or len(text) > 9:
        raise DoppioError(f"{name}: {text[:40]!r} is not a whole number")
    return int(text)


def _of_stretch(pipeline: Pipeline, document: str, start: int, end: int) -> list[int]:
    """Chunks that hold something of a stretch."""
    place, table = positions(pipeline).get(document), pipeline.chunks
    if place is None:
        raise DoppioError(f"document: {document} is not among those that can be asked yet")
    own = table.of_document(place)
    inside = np.flatnonzero((table.start[own] < end) & (table.end[own] > start))
    if not len(inside):
        raise DoppioError(f"start: no chunk holds anything between {start} and {end} of {document}")
    return (inside + own.start).tolist()


def _number(pipeline: Pipeline, text: str) -> int:
    if not text.isdecimal():
        raise DoppioError(f"chunk: {text!r} is not the number of a chunk")
    number = int(text)
    check_chunk(pipeline, number)
    return number


def _shown(pipeline: Pipeline, chunk: int) -> dict[str, Any]:
    titles, texts = pipeline.texts.titles([chunk]), pipeline.texts.texts([chunk])
    return {"document": titles[0], "text": texts[0]}
