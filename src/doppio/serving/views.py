"""What a workspace serves: names, versions, keys, figures."""

from datetime import timedelta
from typing import Any

from django.db import transaction
from django.db.models import Q, Sum
from django.http.response import HttpResponseBase
from django.shortcuts import get_object_or_404
from django.utils import timezone
from drf_spectacular.utils import OpenApiParameter, OpenApiResponse, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.core.errors import DoppioError
from doppio.jobs.turns import HEAVY
from doppio.library import events
from doppio.library.access import person, workspace_of
from doppio.library.events import note
from doppio.library.models import Role
from doppio.library.problems import PROBLEM
from doppio.recipes.access import recipe_for
from doppio.recipes.models import RecipeVersion
from doppio.serving.asked_serializers import AnswerWantedSerializer, FeedbackSerializer, ServedAnswerSerializer
from doppio.serving.asking import answers, search, version_for
from doppio.serving.feedback import say, take
from doppio.serving.figures import figures, to_label
from doppio.serving.keys import Limits, make_key
from doppio.serving.models import Published
from doppio.serving.recording import recorder
from doppio.serving.serializers import (
    BesideGivenSerializer,
    FiguresSerializer,
    KeepSerializer,
    MadeKeySerializer,
    NewKeySerializer,
    PublishedSerializer,
    PublishSerializer,
    ReleaseGivenSerializer,
    StrangersSerializer,
    TakenSerializer,
    TakeSerializer,
    ToLabelSerializer,
)
from doppio.serving.served_views import SSE, answer_to, answered, traced
from doppio.serving.services import before, keep, publish, put_beside, release, told
from doppio.serving.strangers import strangers
from doppio.serving.versions import SILENT_FOR

OWNER = {"POST": Role.OWNER, "PATCH": Role.OWNER, "DELETE": Role.OWNER}
RELEASES_SHOWN, WEEK = 20, 7
HOURS = (1, 24, 24 * WEEK)


def _version(recipe: RecipeVersion | None) -> dict[str, Any] | None:
    return None if recipe is None else {"id": recipe.pk, "name": recipe.name, "version": recipe.version}


def published_body(published: Published) -> dict[str, Any]:
    """All that the page shows of a name; a few queries, however much was asked."""
    now = timezone.now()
    alive = published.opened.filter(seen_at__gte=now - timedelta(seconds=SILENT_FOR))
    processes = list(alive.values_list("recipe_id", flat=True))
    releases = published.releases.select_related("recipe", "by")[:RELEASES_SHOWN]
    return {
        "id": published.pk,
        "name": published.name,
        "recipe": _version(published.recipe),
        "answers": answers(published.recipe),
        "second": _version(published.second),
        "use": published.use,
        "share": published.share,
        "keep_days": published.keep_days,
        "redact": published.redact,
        "before": _version(before(published)),
        "opening": sum(number != published.recipe_id for number in processes),
        "processes": len(processes),
        "releases": [
            {"id": one.pk, "recipe": _version(one.recipe), "back": one.back, "at": one.at,
             "by": one.by.get_username() if one.by else ""}
            for one in releases
        ],
        "keys": [_key(published, key) for key in _keys(published)],
    }  # fmt: skip


def _keys(published: Published) -> Any:
    today = timezone.now().date()
    recent = Q(uses__day__gt=today - timedelta(days=WEEK))
    return published.keys.select_related("made_by").annotate(
        today=Sum("uses__asked", filter=Q(uses__day=today), default=0),
        week=Sum("uses__asked", filter=recent, default=0),
        refused=Sum("uses__refused", filter=recent, default=0),
    )


def _key(published: Published, key: Any) -> dict[str, Any]:
    names = ("name", "begins", "scopes", "a_minute", "a_day", "expires_at", "revoked_at", "made_at")
    return {
        "id": key.pk,
        **{name: getattr(key, name) for name in names},
        "made_by": key.made_by.get_username() if key.made_by else "",
        "second": published.use == Published.SPLIT and key.draw < published.share,
        **{name: getattr(key, name, 0) for name in ("today", "week", "refused")},
    }


def published_of(request: Request, number: int) -> Published:
    """What is published of the workspace that a request is about."""
    rows = workspace_of(request).published.select_related("workspace", "recipe__workspace", "second__workspace")
    return get_object_or_404(rows, pk=number)


class PublishedListView(APIView):
    least = OWNER

    @extend_schema(responses=PublishedSerializer(many=True), operation_id="published")
    def get(self, request: Request, workspace: int) -> Response:
        """What is served of a workspace."""
        rows = workspace_of(request).published.select_related("recipe", "second")
        return Response([published_body(row) for row in rows])

    @extend_schema(
        request=PublishSerializer, responses={201: PublishedSerializer, 400: PROBLEM}, operation_id="publish"
    )
    def post(self, request: Request, workspace: int) -> Response:
        """Put a recipe version behind a name that assistants ask."""
        space = workspace_of(request)
        given = PublishSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            recipe = recipe_for(space, given.validated_data["recipe"])
            made = publish(recipe, given.validated_data["name"], person(request))
            note(events.PUBLISHED, request, workspace=space, name_served=made.name, recipe=told(recipe))
        return Response(published_body(made), status=201)


class PublishedView(APIView):
    least = OWNER

    @extend_schema(responses=PublishedSerializer, operation_id="publishedOne")
    def get(self, request: Request, workspace: int, published: int) -> Response:
        """One name, with its versions and keys."""
        return Response(published_body(published_of(request, published)))

    @extend_schema(
        request=KeepSerializer, responses={200: PublishedSerializer, 400: PROBLEM}, operation_id="keepQuestions"
    )
    def patch(self, request: Request, workspace: int, published: int) -> Response:
        """Say for how long words of questions are kept, and what is taken out of them before."""
        row = published_of(request, published)
        given = KeepSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            row = keep(row, given.validated_data["keep_days"], given.validated_data["redact"])
            note(events.KEEPING_CHANGED, request, workspace=row.workspace, name_served=row.name, days=row.keep_days)
        return Response(published_body(row))

    @extend_schema(responses={204: None}, operation_id="takeDown")
    def delete(self, request: Request, workspace: int, published: int) -> Response:
        """Take a name down, with its keys and figures."""
        row = published_of(request, published)
        with transaction.atomic():
            note(events.TAKEN_DOWN, request, workspace=row.workspace, name_served=row.name, recipe=told(row.recipe))
            row.delete()
        return Response(status=204)


class ReleaseView(APIView):
    least = OWNER

    @extend_schema(
        request=ReleaseGivenSerializer, responses={200: PublishedSerializer, 400: PROBLEM}, operation_id="release"
    )
    def post(self, request: Request, workspace: int, published: int) -> Response:
        """Put another version behind the name; it is opened beside the old one and then answers."""
        row = published_of(request, published)
        given = ReleaseGivenSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        back = given.validated_data["back"]
        recipe = before(row) if back else None
        if not back and given.validated_data.get("recipe") is not None:
            recipe = recipe_for(row.workspace, given.validated_data["recipe"])
        if recipe is None:
            raise DoppioError("recipe: say which version shall answer; none answered before this one")
        with transaction.atomic():
            release(row, recipe, person(request), back=back)
            kind = events.RELEASED_BACK if back else events.RELEASED
            note(kind, request, workspace=row.workspace, name_served=row.name, recipe=told(recipe))
        return Response(published_body(published_of(request, published)))


class BesideView(APIView):
    least = OWNER

    @extend_schema(
        request=BesideGivenSerializer, responses={200: PublishedSerializer, 400: PROBLEM}, operation_id="putBeside"
    )
    def post(self, request: Request, workspace: int, published: int) -> Response:
        """Have a second version asked beside the first, or answer a share of the keys."""
        row = published_of(request, published)
        given = BesideGivenSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        number = given.validated_data["recipe"]
        second = recipe_for(row.workspace, number) if number is not None else None
        with transaction.atomic():
            put_beside(row, second, given.validated_data["use"], given.validated_data["share"])
            note(
                events.PUT_BESIDE, request, workspace=row.workspace, name_served=row.name,
                recipe=told(second) if second else "", use=given.validated_data["use"],
            )  # fmt: skip
        return Response(published_body(published_of(request, published)))


class KeysView(APIView):
    least = OWNER

    @extend_schema(request=NewKeySerializer, responses={201: MadeKeySerializer, 400: PROBLEM}, operation_id="makeKey")
    def post(self, request: Request, workspace: int, published: int) -> Response:
        """A new key; its secret is told this once."""
        row = published_of(request, published)
        given = NewKeySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        days = values.get("days")
        limits = Limits(
            values.get("a_minute"), values.get("a_day"), timezone.now() + timedelta(days=days) if days else None
        )
        with transaction.atomic():
            made, secret = make_key(row, values["name"], values["scopes"], limits, person(request))
            note(events.KEY_MADE, request, workspace=row.workspace, name_served=row.name, key=made.name,
                 scopes=made.scopes)  # fmt: skip
        return Response({**_key(row, made), "secret": secret}, status=201)


class KeyView(APIView):
    least = OWNER

    @extend_schema(responses={204: None}, operation_id="takeKeyBack")
    def delete(self, request: Request, workspace: int, published: int, key: int) -> Response:
        """Take a key back; from now on it opens nothing."""
        row = published_of(request, published)
        found = get_object_or_404(row.keys, pk=key)
        if found.revoked_at is None:
            with transaction.atomic():
                found.revoked_at = timezone.now()
                found.save(update_fields=["revoked_at"])
                note(events.KEY_TAKEN_BACK, request, workspace=row.workspace, name_served=row.name, key=found.name)
        return Response(status=204)


class FiguresView(APIView):
    @extend_schema(
        parameters=[OpenApiParameter("hours", int, description="1, 24 or 168; 24 where it is left out.")],
        responses={200: FiguresSerializer, 400: PROBLEM}, operation_id="servedFigures",
    )  # fmt: skip
    def get(self, request: Request, workspace: int, published: int) -> Response:
        """Load, times, what stayed empty, and how versions did."""
        row = published_of(request, published)
        hours = request.query_params.get("hours", "24")
        if not hours.isdecimal() or int(hours[:9]) not in HOURS:
            raise DoppioError(f"hours: {hours!r} is none of {', '.join(map(str, HOURS))}")
        recorder.write()
        return Response(figures(row, int(hours)))


class ToLabelView(APIView):
    @extend_schema(responses=ToLabelSerializer(many=True), operation_id="questionsFromUse")
    def get(self, request: Request, workspace: int, published: int) -> Response:
        """Questions of assistants that speak for a label, those first that were held to be wrong."""
        recorder.write()
        return Response(to_label(published_of(request, published)))

    @extend_schema(
        request=TakeSerializer, responses={200: TakenSerializer, 400: PROBLEM}, operation_id="takeQuestionsFromUse"
    )
    def post(self, request: Request, workspace: int, published: int) -> Response:
        """Put them where questions from use wait for a label."""
        row = published_of(request, published)
        given = TakeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        made = 0
        with transaction.atomic():
            wanted = row.served.select_for_update().filter(request__in=given.validated_data["requests"])
            rows = list(wanted.exclude(question="").order_by("at"))
            for one in rows:
                question = take(row.workspace, one.question)
                made += question is not None
                if question is not None:
                    note(events.QUESTION_WRITTEN, request, workspace=row.workspace, question=question.identity,
                         text=question.text)  # fmt: skip
            row.served.filter(pk__in=[one.pk for one in rows]).update(taken=True)
        return Response({"made": made, "there": len(rows) - made})


class StrangersView(APIView):
    @extend_schema(responses={200: StrangersSerializer, 400: PROBLEM}, operation_id="strangers")
    @HEAVY.turn()
    def get(self, request: Request, workspace: int, published: int) -> Response:
        """How far live questions are from the labelled ones, and which are the farthest."""
        return Response(strangers(published_of(request, published)))


class TryView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(
        request=AnswerWantedSerializer,
        responses={(200, "application/json"): ServedAnswerSerializer, (200, SSE): OpenApiResponse(str), 400: PROBLEM},
        operation_id="tryPublished",
    )
    def post(self, request: Request, workspace: int, published: int) -> HttpResponseBase:
        """Ask as an assistant's user would; where the recipe answers nothing, what it hands on."""
        row = published_of(request, published)
        given = AnswerWantedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        if answers(version_for(row, None)):
            return answer_to(row, None, given.wanted, stream=given.validated_data["stream"])
        found = search(row, None, given.wanted)
        return answered(found, {**traced(found, False), "sentences": [], "silent": "this recipe hands passages on"})


class SayView(APIView):
    least = {"POST": Role.READER}

    @extend_schema(request=FeedbackSerializer, responses={204: None, 400: PROBLEM}, operation_id="sayOfAnswer")
    def post(self, request: Request, workspace: int, published: int) -> Response:
        """What a person thinks of an answer; one that is not liked becomes a question that waits for a label."""
        row = published_of(request, published)
        given = FeedbackSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        made = say(row, **given.validated_data)
        if made is not None:
            note(events.QUESTION_WRITTEN, request, workspace=row.workspace, question=made.identity, text=made.text)
        return Response(status=204)
