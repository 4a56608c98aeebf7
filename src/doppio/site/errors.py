"""What the API answers when something is wrong: one sentence that a person can act on."""

from typing import Any

from rest_framework.response import Response
from rest_framework.views import exception_handler

from doppio.asking.services import NotBuilt
from doppio.core.errors import ArtifactDamaged, DoppioError


def answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """400 for what was given, 409 for indexes that are not there; all else as usual."""
    if isinstance(error, NotBuilt):
        return Response({"detail": str(error)}, status=409)
    if isinstance(error, ArtifactDamaged | FileNotFoundError):
        return Response({"detail": f"{error}. Run the recipe's trial: it builds the index again."}, status=409)
    if isinstance(error, DoppioError):
        return Response({"detail": str(error)}, status=400)
    return exception_handler(error, context)
