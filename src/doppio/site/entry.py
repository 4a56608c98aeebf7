"""Signing in: by name and password, or once by a link."""

from django.conf import settings
from django.contrib.auth import authenticate, login
from django.contrib.auth.models import User
from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import redirect, render
from django.views.decorators.cache import never_cache
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.debug import sensitive_post_parameters
from django.views.decorators.http import require_http_methods

from doppio.library.attempts import seconds_to_wait
from doppio.library.entry import use_entry_link
from doppio.library.events import SIGN_IN_FAILED, SIGNED_IN, address_of, note
from doppio.site.gate import for_visitors
from doppio.site.parsers import wrong_character

LONGEST_NAME = 150


@for_visitors
@never_cache
@sensitive_post_parameters("password")
@require_http_methods(["GET", "POST"])
def sign_in(request: HttpRequest) -> HttpResponse:
    """The sign-in page."""
    if request.method == "GET":
        return redirect("/") if request.user.is_authenticated else render(request, "sign-in.html")
    username, password = request.POST.get("username", ""), request.POST.get("password", "")
    if wrong_character(username + password) or len(username) > LONGEST_NAME:
        return _refused(request, "", "Name and password do not match.", 403)
    seconds = seconds_to_wait(username, address_of(request))
    if seconds:
        answer = _refused(
            request, username, f"Too many failed tries. The next one counts in {_spoken(seconds)}.", 429
        )
        answer["Retry-After"] = str(seconds)
        return answer
    user = authenticate(request, username=username, password=password)
    if user is None:
        note(SIGN_IN_FAILED, request, name=username)
        problem = "Name and password do not match. './doppio demo' prints a fresh sign-in link."
        return _refused(request, username, problem, 403)
    _enter(request, user, "password")
    return redirect("/")


def _refused(request: HttpRequest, username: str, problem: str, status: int) -> HttpResponse:
    return render(request, "sign-in.html", {"problem": problem, "username": username}, status=status)


def _spoken(seconds: int) -> str:
    return f"{seconds} seconds" if seconds < 120 else f"{-(-seconds // 60)} minutes"


def _enter(request: HttpRequest, user: User, by: str) -> None:
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    note(SIGNED_IN, request, who=user, by=by)


@for_visitors
@never_cache
@require_http_methods(["GET", "POST"])
def enter(request: HttpRequest, secret: str) -> HttpResponse:
    """A one-time link. It is used up by the button, not by a program that looks at links beforehand."""
    if request.method == "GET":
        return render(request, "enter.html")
    user = use_entry_link(secret)
    if user is None:
        note(SIGN_IN_FAILED, request, by="link")
        return _refused(
            request, "", "This link has been used or is too old. './doppio demo' prints a fresh one.", 403
        )
    _enter(request, user, "link")
    return redirect("/")


@ensure_csrf_cookie
@never_cache
def interface(request: HttpRequest, path: str = "") -> HttpResponseBase:
    """The built interface, whatever page of it is asked for."""
    page = settings.WEB_DIST / "index.html"
    if not page.exists():
        return render(
            request, "down.html", {"detail": "The interface is not built. Run './doppio demo'."}, status=503
        )
    return FileResponse(page.open("rb"), content_type="text/html; charset=utf-8")
