"""The gate: nothing is served to a visitor who is not signed in."""

from collections.abc import Callable
from typing import Any, TypeVar

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.urls import Resolver404, resolve

View = TypeVar("View", bound=Callable[..., Any])


def for_visitors(view: View) -> View:
    """Mark a view as one that a visitor may see before signing in."""
    view.for_visitors = True  # type: ignore[attr-defined]
    return view


class SignedInOnly:
    """Sends visitors to the sign-in page; the API and files answer 401.

    What decides is the view that an address leads to, and no part of the address itself.
    """

    def __init__(self, next_one: Callable[[HttpRequest], HttpResponse]) -> None:
        self._next = next_one

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if _leads_to_an_open_view(request) or request.user.is_authenticated:
            return self._next(request)
        page = "text/html" in request.headers.get("Accept", "") and not request.path_info.startswith("/api/")
        if page and request.method == "GET":
            return redirect("/sign-in")
        return JsonResponse({"detail": "Sign in first."}, status=401)


def _leads_to_an_open_view(request: HttpRequest) -> bool:
    try:
        return getattr(resolve(request.path_info).func, "for_visitors", False)
    except Resolver404:
        return False
