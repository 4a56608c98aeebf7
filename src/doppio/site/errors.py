"""What the API answers when something is wrong: one sentence that a person can act on, in one form."""

from pathlib import Path
from typing import Any

from django.http import HttpRequest, JsonResponse
from rest_framework.response import Response
from rest_framework.views import exception_handler

from doppio.core.errors import ArtifactDamaged, DoppioError, NobodyAnswers, StoreUnreachable
from doppio.recipes.artifacts import store
from doppio.recipes.opened import NotBuilt

# What every operation may answer besides its own.
STATUSES = {
    "400": "What was given is wrong; the sentence names the field and what is allowed.",
    "401": "Nobody is signed in.",
    "403": "The token against forged requests is missing or wrong.",
    "404": "It is not there, or not for this person.",
    "405": "This cannot be done with it.",
    "409": "Indexes are missing or damaged; the sentence says how to build them.",
    "413": "More was sent than is taken.",
    "415": "It was sent in another form than is read.",
    "429": "Too much at once; `Retry-After` says in how many seconds to come back.",
    "500": "Something went wrong here.",
    "503": "The database, or the store of artifacts, does not answer just now.",
}
PROBLEM = {"application/json": {"schema": {"$ref": "#/components/schemas/Problem"}}}


def answer(error: Exception, context: dict[str, Any]) -> Response | None:
    """400 for what was given, 409 for indexes that are not there; all else as usual, in one form."""
    if isinstance(error, NotBuilt):
        return Response({"detail": str(error)}, status=409)
    if isinstance(error, ArtifactDamaged) or _is_of_an_index(error):
        return Response({"detail": f"{error}. Run the recipe's trial: it builds the index again."}, status=409)
    if isinstance(error, StoreUnreachable | NobodyAnswers):
        return Response({"detail": str(error)}, status=503)
    if isinstance(error, DoppioError):
        return Response({"detail": str(error)}, status=400)
    found = exception_handler(error, context)
    if found is not None:
        found.data = {"detail": sentence(found.data)}
    return found


def _is_of_an_index(error: Exception) -> bool:
    """Whether an artifact is not there; any other file that is missing is another matter."""
    if not isinstance(error, FileNotFoundError):
        return False
    missing = Path(str(error.filename or (error.args[0] if error.args else "")))
    return missing.is_relative_to(store().root)


def sentence(problem: Any, where: str = "") -> str:
    """The first of what a serializer found wrong, with the path of its field."""
    if isinstance(problem, dict) and problem:
        name, inner = next(iter(problem.items()))
        plain = name in ("detail", "non_field_errors")
        return sentence(inner, where if plain else f"{where}.{name}" if where else str(name))
    if isinstance(problem, list) and problem:
        # Errors of a list of things are in its order; those that are well are empty.
        place, inner = next(((place, inner) for place, inner in enumerate(problem) if inner), (0, problem[0]))
        return sentence(inner, where if isinstance(inner, str) else f"{where}[{place}]")
    return f"{where}: {problem}" if where else str(problem)


def not_found(request: HttpRequest, exception: Exception) -> Any:
    """An address that leads nowhere."""
    return JsonResponse({"detail": "There is nothing at this address."}, status=404)


def bad_request(request: HttpRequest, exception: Exception) -> Any:
    """A request that Django itself refuses."""
    return JsonResponse({"detail": "This request cannot be read."}, status=400)


def with_problems(result: dict[str, Any], **_: Any) -> dict[str, Any]:
    """Name in the schema what every operation may answer besides its own."""
    result["components"]["responses"] = {
        f"Problem{status}": {"description": text, "content": PROBLEM} for status, text in STATUSES.items()
    }
    for path in result["paths"].values():
        for operation in path.values():
            for status in STATUSES:
                operation["responses"].setdefault(status, {"$ref": f"#/components/responses/Problem{status}"})
    return result
