"""The gate: nothing is served to a visitor who is not signed in."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect

OPEN = ("/sign-in", "/enter/", "/health")


class SignedInOnly:
    """Sends visitors to the sign-in page; the API and files answer 401."""

    def __init__(self, next_one: Callable[[HttpRequest], HttpResponse]) -> None:
        self._next = next_one

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.path.startswith(OPEN) or request.user.is_authenticated:
            return self._next(request)
        page = "text/html" in request.headers.get("Accept", "") and not request.path.startswith("/api/")
        if page and request.method == "GET":
            return redirect("/sign-in")
        return JsonResponse({"detail": "Sign in first."}, status=401)
