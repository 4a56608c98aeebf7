"""What browsers are told with every answer: run no code but ours, keep nothing of the API."""

import secrets
from collections.abc import Callable

from django.http import HttpRequest, HttpResponse

POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self' {styles}; img-src 'self' data: blob:; "
    "font-src 'self' data:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
PERMISSIONS = "camera=(), microphone=(), geolocation=(), payment=(), usb=(), interest-cohort=()"


class Headers:
    """Adds them; a page of the server's own marks its style sheet with `request.csp_nonce`."""

    def __init__(self, next_one: Callable[[HttpRequest], HttpResponse]) -> None:
        self._next = next_one

    def __call__(self, request: HttpRequest) -> HttpResponse:
        request.csp_nonce = secrets.token_urlsafe(16)  # type: ignore[attr-defined]
        answer = self._next(request)
        answer.headers.setdefault("Content-Security-Policy", POLICY.format(styles=f"'nonce-{request.csp_nonce}'"))  # type: ignore[attr-defined]
        answer.headers.setdefault("Permissions-Policy", PERMISSIONS)
        if request.path_info.startswith("/api/"):
            answer.headers["Cache-Control"] = "no-store"
        return answer
