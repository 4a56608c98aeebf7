"""What assistants ask under a published name, each with a key."""

import json
from collections.abc import Iterator
from typing import Any

from django.http import HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response

from doppio.core.errors import DoppioError
from doppio.core.trace import AnswerTrace
from doppio.jobs.patience import COME_BACK, WAITED
from doppio.jobs.turns import Busy
from doppio.library.pictures import figure_of
from doppio.library.problems import PROBLEM
from doppio.recipes.opened import absent, to_be_asked
from doppio.recipes.services import core_recipe
from doppio.serving.asked_serializers import (
    AnswerWantedSerializer,
    FeedbackSerializer,
    FoundSerializer,
    HealthSerializer,
    ListedSerializer,
    ReadSerializer,
    ServedAnswerSerializer,
    WantedSerializer,
)
from doppio.serving.asking import Found, Wanted, answers, finish, search, sentences, version_for
from doppio.serving.doors import ServedView
from doppio.serving.feedback import say
from doppio.serving.models import Key, Published
from doppio.serving.reading import MOST_LISTED, listed, read
from doppio.serving.services import told
from doppio.serving.watching import TYPE, watched

SSE = "text/event-stream"


class SearchView(ServedView):
    scopes, counts = {"POST": Key.SEARCH}, ("POST",)

    @extend_schema(
        request=WantedSerializer, responses={200: FoundSerializer, 400: PROBLEM, 429: PROBLEM},
        operation_id="servedSearch", tags=["serve"],
    )  # fmt: skip
    def post(self, request: Request, name: str) -> Response:
        """Passages for a question, with their citations."""
        if come_back := request.META.get(COME_BACK):
            watched.refused(self.key.published.name)
            raise Busy(come_back)
        context = {"sent": request.headers, "waited": request.META.get(WAITED, 0.0)}
        given = WantedSerializer(data=request.data, context=context)
        given.is_valid(raise_exception=True)
        found = search(self.key.published, self.key, given.wanted)
        return answered(found, traced(found, given.validated_data["trace"]))


class AnswerView(ServedView):
    scopes, counts = {"POST": Key.ANSWER}, ("POST",)

    @extend_schema(
        request=AnswerWantedSerializer,
        responses={
            (200, "application/json"): ServedAnswerSerializer,
            (200, SSE): OpenApiResponse(
                str, description="Events passages, sentence (each), and end; problem where it breaks off."
            ),
            400: PROBLEM,
            429: PROBLEM,
        },
        operation_id="servedAnswer", tags=["serve"],
    )  # fmt: skip
    def post(self, request: Request, name: str) -> HttpResponseBase:
        """An answer with the passages that it cites, whole or as it grows."""
        given = AnswerWantedSerializer(data=request.data, context={"sent": request.headers})
        given.is_valid(raise_exception=True)
        return answer_to(
            self.key.published, self.key, given.wanted, stream=given.validated_data["stream"],
            trace=given.validated_data["trace"],
        )  # fmt: skip


def answer_to(
    published: Published, key: Key | None, wanted: Wanted, *, stream: bool, trace: bool = False
) -> HttpResponseBase:
    """Answer a question, whole or as it grows.

    Raises
    ------
    DoppioError
        If the recipe answers nothing.
    """
    recipe = version_for(published, key)
    if not answers(recipe):
        raise DoppioError(f"{told(recipe)} hands passages on and does not answer; ask for a search")
    found = search(published, key, wanted, kind=Key.ANSWER, recipe=recipe)
    if stream:
        response = StreamingHttpResponse(_events(published, key, wanted, found), content_type=SSE)
        response["Cache-Control"] = "no-cache"
        response["X-Accel-Buffering"] = "no"
        response["X-Request-Id"] = found.request
        return response
    try:
        *_, whole = sentences(found, wanted.question)
    except (DoppioError, Busy) as error:
        finish(published, key, wanted, found, Key.ANSWER, AnswerTrace(()), _told(error))
        raise
    finish(published, key, wanted, found, Key.ANSWER, whole)
    body = {
        **traced(found, trace),
        "sentences": _said(whole),
        "silent": whole.silent,
        "seconds": found.took(answering=True),
    }
    return answered(found, body)


def _events(published: Published, key: Key | None, wanted: Wanted, found: Found) -> Iterator[str]:
    """Passages first, then each sentence as it comes, then how it ended."""
    yield _event("passages", found.body)
    whole, sent, problem = AnswerTrace(()), 0, "nobody read on"
    try:
        for whole in sentences(found, wanted.question):
            for said in _said(whole)[sent:]:
                yield _event("sentence", said)
            sent = len(whole.sentences)
        problem = ""
        yield _event("end", {"request": found.request, "silent": whole.silent, "seconds": found.took(answering=True)})
    except (DoppioError, Busy) as error:
        # The head of the answer is sent; what remains is to say so.
        problem = _told(error)
        yield _event("problem", {"detail": problem})
    finally:
        finish(published, key, wanted, found, Key.ANSWER, whole, problem)


def _told(error: Exception) -> str:
    return str(getattr(error, "detail", error))


def _said(answer: AnswerTrace) -> list[dict[str, Any]]:
    return [{"text": said.text, "cites": list(said.cites)} for said in answer.sentences]


def _event(name: str, body: dict[str, Any]) -> str:
    return f"event: {name}\ndata: {json.dumps(body, ensure_ascii=False)}\n\n"


def traced(found: Found, trace: bool) -> dict[str, Any]:
    """The body of what was found, with all that was done where that is wanted."""
    return {**found.body, "trace": found.trace.to_json()} if trace else found.body


def answered(found: Found, body: dict[str, Any]) -> Response:
    """A response that carries the id of its request."""
    return Response(body, headers={"X-Request-Id": found.request})


class FeedbackView(ServedView):
    scopes = {"POST": Key.SEARCH}

    @extend_schema(
        request=FeedbackSerializer, responses={204: None, 400: PROBLEM}, operation_id="servedFeedback", tags=["serve"]
    )
    def post(self, request: Request, name: str) -> Response:
        """What somebody thinks of an answer."""
        given = FeedbackSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        say(self.key.published, **given.validated_data)
        return Response(status=204)


class HealthView(ServedView):
    scopes = {"GET": Key.SEARCH}

    @extend_schema(responses=HealthSerializer, operation_id="servedHealth", tags=["serve"])
    def get(self, request: Request, name: str) -> Response:
        """Whether it can be asked, by which version, over how many documents; 409 while nothing is built."""
        published = self.key.published
        recipe = version_for(published, self.key)
        pipeline = to_be_asked(published.workspace, core_recipe(recipe))
        return Response(
            {
                "name": published.name,
                "recipe": {"name": recipe.name, "version": recipe.version},
                "answers": answers(recipe),
                "documents": published.workspace.documents.count(),
                "absent": len(absent(published.workspace, pipeline)),
            }
        )


class DocumentsView(ServedView):
    scopes = {"GET": Key.READ}

    @extend_schema(
        parameters=[
            OpenApiParameter("after", int, description="Only documents after this one, by its id."),
            OpenApiParameter("limit", int, description=f"At most so many; {MOST_LISTED} where it is left out."),
        ],
        responses=ListedSerializer(many=True), operation_id="servedDocuments", tags=["serve"],
    )  # fmt: skip
    def get(self, request: Request, name: str) -> Response:
        """What documents there are, by their ids."""
        after, limit = (request.query_params.get(name, "") for name in ("after", "limit"))
        return Response(
            listed(
                self.key.published,
                int(after[:18]) if after.isdecimal() else 0,
                int(limit[:9]) if limit.isdecimal() else MOST_LISTED,
            )
        )


class DocumentView(ServedView):
    scopes = {"GET": Key.READ}

    @extend_schema(
        parameters=[
            OpenApiParameter("section", int, description="A section by its index; all of the document without it."),
        ],
        responses={200: ReadSerializer, 404: PROBLEM}, operation_id="servedDocument", tags=["serve"],
    )  # fmt: skip
    def get(self, request: Request, name: str, document: int) -> Response:
        """A document with its outline, and the text of a section or of all."""
        return Response(read(self.key.published, document, request.query_params.get("section", "")))


class FigureView(ServedView):
    scopes = {"GET": Key.READ}

    @extend_schema(
        responses={(200, "image/png"): OpenApiTypes.BINARY, (200, "image/jpeg"): OpenApiTypes.BINARY},
        operation_id="servedFigure", tags=["serve"],
    )  # fmt: skip
    def get(self, request: Request, name: str, document: int, number: int) -> HttpResponse:
        """A picture of a document, for an assistant that can see."""
        return figure_of(self.key.published.workspace, document, number)


class MetricsView(ServedView):
    scopes = {"GET": Key.WATCH}

    @extend_schema(
        responses={(200, "application/openmetrics-text"): str}, operation_id="servedMetrics", tags=["serve"]
    )
    def get(self, request: Request, name: str) -> HttpResponse:
        """Figures of this installation as OpenMetrics text."""
        return HttpResponse(watched.told(), content_type=TYPE)


class ProtocolView(ServedView):
    """The Model Context Protocol; its messages are its own and are not told in the schema."""

    scopes = {"GET": Key.SEARCH, "POST": Key.SEARCH, "DELETE": Key.SEARCH}
    schema = None

    def get(self, request: Request, name: str) -> HttpResponse:
        """Nothing is sent on its own: the SDK says so."""
        # The SDK takes more than a second to import, and who is never asked so should not wait for it at every start.
        from doppio.serving.protocol import speak

        return speak(request._request, self.key)

    post = delete = get
