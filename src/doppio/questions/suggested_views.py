"""Suggested questions, and what of the documents is asked about at all."""

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers as s
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import person, workspace_of
from doppio.library.events import SUGGESTION_OPENED, SUGGESTION_REFUSED, SUGGESTION_TAKEN, note
from doppio.library.problems import PROBLEM
from doppio.questions.coverage import coverage
from doppio.questions.suggested import decide, suggested, undecide
from doppio.questions.writing import set_for

MOST = 50


class SuggestedSerializer(s.Serializer):
    document = s.IntegerField()
    title = s.CharField()
    asked = s.IntegerField(help_text="How many questions the document answers already.")
    rule = s.CharField()
    text = s.CharField()
    start = s.IntegerField()
    end = s.IntegerField()
    answer = s.CharField(help_text="The range that seems to answer it.")


class DecideSerializer(s.Serializer):
    """Accept a suggestion as `words`, or refuse it where they are null."""

    document = s.IntegerField()
    rule = s.CharField(max_length=40)
    text = s.CharField(max_length=300)
    start = s.IntegerField()
    end = s.IntegerField()
    words = s.CharField(allow_null=True, max_length=3000)
    set = s.IntegerField(required=False)


class DecidedSerializer(s.Serializer):
    question = s.IntegerField(allow_null=True, help_text="The question that came of it.")


class UndecideSerializer(s.Serializer):
    document = s.IntegerField()
    text = s.CharField(max_length=300)


class CoveredSectionSerializer(s.Serializer):
    title = s.CharField(allow_blank=True)
    level = s.IntegerField()
    start = s.IntegerField()
    end = s.IntegerField()
    answers = s.IntegerField()


class CoverageSerializer(s.Serializer):
    """A document: how many questions it answers, and where."""

    id = s.IntegerField()
    title = s.CharField()
    length = s.IntegerField(help_text="In characters.")
    questions = s.IntegerField()
    answers = s.IntegerField()
    sections = CoveredSectionSerializer(many=True, help_text="Stretches of the text from one heading to the next.")


class SuggestionsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("count", int, description=f"How many; 12 where it is left out, at most {MOST}."),
            OpenApiParameter("document", int, description="Of this document alone."),
        ],
        responses=SuggestedSerializer(many=True),
        operation_id="suggestions",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """Questions that documents seem to answer, those first that are asked about least."""
        space = workspace_of(request)
        count, document = (request.query_params.get(name, "") for name in ("count", "document"))
        own = get_object_or_404(space.documents.only("pk"), pk=int(document)).pk if document.isdecimal() else None
        return Response(suggested(space, min(int(count), MOST) if count.isdecimal() else 12, own))

    @extend_schema(
        request=DecideSerializer, responses={201: DecidedSerializer, 400: PROBLEM}, operation_id="decideSuggestion"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Accept, reword or refuse a suggestion."""
        space = workspace_of(request)
        given = DecideSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        document = get_object_or_404(space.documents.select_related("workspace"), pk=values["document"])
        with transaction.atomic():
            made = decide(
                document, values["rule"], values["text"], values["start"], values["end"], values["words"],
                set_for(space, values.get("set")), person(request),
            )  # fmt: skip
            kind = SUGGESTION_TAKEN if made is not None else SUGGESTION_REFUSED
            about = {"question": made.identity, "text": made.text} if made is not None else {"text": values["text"]}
            note(kind, request, workspace=space, document=document.name, **about)
        return Response({"question": made.pk if made is not None else None}, status=201)

    @extend_schema(
        request=UndecideSerializer, responses={204: None, 400: PROBLEM}, operation_id="openSuggestionAgain"
    )
    def put(self, request: Request, workspace: int) -> Response:
        """Take a decision back, and the question that came of it."""
        space = workspace_of(request)
        given = UndecideSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        document = get_object_or_404(space.documents, pk=given.validated_data["document"])
        with transaction.atomic():
            said = undecide(document, given.validated_data["text"])
            note(SUGGESTION_OPENED, request, workspace=space, document=document.name, question=said)
        return Response(status=204)


class CoverageView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("after", int, description="Only documents after this one, by its id."),
            OpenApiParameter("limit", int, description="At most so many; 1000 where it is left out, and never more."),
        ],
        responses=CoverageSerializer(many=True),
        operation_id="questionCoverage",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """How many questions each document answers, and where in it, in the order of their names."""
        space = workspace_of(request)
        after, limit = (request.query_params.get(name, "") for name in ("after", "limit"))
        begin = get_object_or_404(space.documents.only("name"), pk=int(after)).name if after.isdecimal() else ""
        return Response(coverage(space, begin, min(int(limit), 1000) if limit.isdecimal() else 1000))
