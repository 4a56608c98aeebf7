"""When the database is down: a page that says so and what to do, instead of a blank error."""

import sys

from django.conf import settings
from django.db import InterfaceError, OperationalError, connection
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.defaults import server_error as blank_error

from doppio.site.gate import for_visitors


def server_error(request: HttpRequest) -> HttpResponse:
    """503 with a message for a lost database; every other error stays what it is."""
    api = request.path.startswith("/api/") or request.path == "/health"
    if isinstance(sys.exc_info()[1], OperationalError | InterfaceError):
        port = settings.DATABASES["default"]["PORT"]
        detail = (
            f"The database on 127.0.0.1:{port} does not answer. Nothing is lost: while './doppio serve' or "
            "'./doppio demo' runs it is being started again, so reload in a few seconds."
        )
        return JsonResponse({"detail": detail}, status=503) if api else _page(request, detail)
    if api:
        return JsonResponse({"detail": "Something went wrong here; the server's log has the details."}, status=500)
    return blank_error(request)


def _page(request: HttpRequest, detail: str) -> HttpResponse:
    return render(request, "down.html", {"detail": detail}, status=503)


@for_visitors
def health(request: HttpRequest) -> JsonResponse:
    """Whether the database answers; for the launcher and for monitors."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT 1")
    return JsonResponse({"state": "ok"})
