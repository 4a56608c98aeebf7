"""How assistants come in: by a key that they send with every request, and by nothing else."""

from collections.abc import Iterable
from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework.authentication import BaseAuthentication
from rest_framework.negotiation import DefaultContentNegotiation
from rest_framework.renderers import BaseRenderer
from rest_framework.request import Request
from rest_framework.views import APIView

from doppio.serving.keys import count_use, key_of
from doppio.serving.models import Key


class ByKey(BaseAuthentication):
    """Nobody is signed in by it: a key says what may be done, and each view looks at that."""

    def authenticate(self, request: Request) -> None:
        return None

    def authenticate_header(self, request: Request) -> str:
        return "Bearer"


class ByKeyInSchema(OpenApiAuthenticationExtension):
    """The key, as the schema tells it."""

    target_class = ByKey
    name = "assistantKey"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        return {"type": "http", "scheme": "bearer", "description": "A key that was made on the Serve page."}


class OneWay(DefaultContentNegotiation):
    """What is answered has one form, whatever a client says that it takes: reading that costs as much as a look at
    the key."""

    def select_renderer(
        self, request: Request, renderers: Iterable[BaseRenderer], format_suffix: str | None = None
    ) -> tuple[BaseRenderer, str]:
        first = next(iter(renderers))
        return first, str(first.media_type)


class ServedView(APIView):
    """What a key opens; `scopes` says what for, by method."""

    authentication_classes = (ByKey,)
    content_negotiation_class = OneWay
    permission_classes = ()
    scopes: dict[str, str] = {}
    # Methods that count against the limits of the key.
    counts: tuple[str, ...] = ()

    @classmethod
    def as_view(cls, **initkwargs: Any) -> Any:
        view = super().as_view(**initkwargs)
        # The gate lets a request pass that leads here: keys are looked at below.
        view.for_visitors = True  # type: ignore[attr-defined]
        return view

    def initial(self, request: Request, *args: Any, **kwargs: Any) -> None:
        super().initial(request, *args, **kwargs)
        if request.method in self.scopes:
            self.key: Key = key_of(request, kwargs["name"], self.scopes[request.method])
            if request.method in self.counts:
                count_use(self.key)
