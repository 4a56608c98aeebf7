"""Signing in: by name and password, or once by a link."""

from django.conf import settings
from django.contrib.auth import authenticate, login
from django.http import FileResponse, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.cache import never_cache
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.debug import sensitive_post_parameters
from django.views.decorators.http import require_http_methods

from doppio.library.entry import use_entry_link


@never_cache
@sensitive_post_parameters("password")
@require_http_methods(["GET", "POST"])
def sign_in(request: HttpRequest) -> HttpResponse:
    """The sign-in page."""
    if request.method == "GET":
        return redirect("/") if request.user.is_authenticated else render(request, "sign-in.html")
    username = request.POST.get("username", "")
    user = authenticate(request, username=username, password=request.POST.get("password", ""))
    if user is None:
        problem = "Name and password do not match. './doppio demo' prints a fresh sign-in link."
        return render(request, "sign-in.html", {"problem": problem, "username": username}, status=403)
    login(request, user)
    return redirect("/")


@never_cache
@require_http_methods(["GET", "POST"])
def enter(request: HttpRequest, secret: str) -> HttpResponse:
    """A one-time link. It is used up by the button, not by a program that looks at links beforehand."""
    if request.method == "GET":
        return render(request, "enter.html")
    user = use_entry_link(secret)
    if user is None:
        problem = "This link has been used or is too old. './doppio demo' prints a fresh one."
        return render(request, "sign-in.html", {"problem": problem}, status=403)
    login(request, user, backend="django.contrib.auth.backends.ModelBackend")
    return redirect("/")


@ensure_csrf_cookie
@never_cache
def interface(request: HttpRequest, path: str = "") -> HttpResponse:
    """The built interface, whatever page of it is asked for."""
    page = settings.WEB_DIST / "index.html"
    if not page.exists():
        return render(
            request, "down.html", {"detail": "The interface is not built. Run './doppio demo'."}, status=503
        )
    return FileResponse(page.open("rb"), content_type="text/html; charset=utf-8")
