"""The history of a workspace."""

from datetime import UTC, date, datetime, time

from django.db import transaction
from django.shortcuts import get_object_or_404
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from doppio.library.access import membership_of, person, workspace_of
from doppio.library.events import EVENT_TAKEN_BACK, note
from doppio.library.history import TAKEN_BACK, looked_through, may_be_taken_back, options, seen_by, take_back
from doppio.library.problems import PROBLEM
from doppio.library.serializers import EventsSerializer

EVENTS_SHOWN = 100


class EventsView(APIView):
    @extend_schema(
        parameters=[
            OpenApiParameter("before", int, description="Only events before this number."),
            OpenApiParameter("who", str, description="Only what this person did."),
            OpenApiParameter("kind", str, description="Only events of this kind."),
            OpenApiParameter("words", str, description="All of these words stand in what the event is about."),
            OpenApiParameter("since", OpenApiTypes.DATE, description="Only events of this day or later."),
        ],
        responses=EventsSerializer,
        operation_id="events",
    )
    def get(self, request: Request, workspace: int) -> Response:
        """What people did in a workspace that others may ask about later, newest first."""
        seen, asked = seen_by(membership_of(request)), request.query_params
        before = asked.get("before", "")
        page = looked_through(
            seen, before=int(before) if before.isdecimal() else None, who=asked.get("who", ""),
            kind=asked.get("kind", ""), words=asked.get("words", ""), since=_day(asked.get("since", "")),
            count=EVENTS_SHOWN,
        )  # fmt: skip
        more = len(page) > EVENTS_SHOWN
        page = page[:EVENTS_SHOWN]
        return Response(
            {
                "events": [
                    {"id": row.pk, "at": row.at, "kind": row.kind, "name": row.name, "about": row.about,
                     "taken_back": row.about.get(TAKEN_BACK), "can_be_taken_back": may_be_taken_back(row)}
                    for row in page
                ],
                "before": page[-1].pk if more else None,
                **options(seen),
            }
        )  # fmt: skip


class TakeBackView(APIView):
    @extend_schema(request=None, responses={204: None, 400: PROBLEM}, operation_id="takeEventBack")
    def post(self, request: Request, workspace: int, event: int) -> Response:
        """Undo what was done, where things are still as it left them."""
        space = workspace_of(request)
        found = get_object_or_404(space.events, pk=event)
        with transaction.atomic():
            take_back(space, found, person(request))
            note(EVENT_TAKEN_BACK, request, workspace=space, what=found.kind, of=found.name, event=found.pk)
        return Response(status=204)


def _day(text: str) -> datetime | None:
    """The beginning of a day; a text that is none is passed over."""
    try:
        return datetime.combine(date.fromisoformat(text), time.min, UTC)
    except ValueError:
        return None
