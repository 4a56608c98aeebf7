"""Requests that the schema allows, and some that it does not, sent to every operation of the API.

`tests.server.test_fuzz` sends a few for each; `bench/fuzz.py` as many as one likes.
"""

from collections.abc import Mapping
from typing import Any

import schemathesis
from django.conf import settings
from django.db import transaction
from django.test import Client
from hypothesis import HealthCheck, Phase, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from schemathesis.generation import GenerationMode

from doppio.site.errors import STATUSES

# Half of all requests are about things that are there; a random number mostly leads nowhere.
THERE = 0.5


class Sender:
    """Sends what was generated as a signed-in member, each time from the same state."""

    def __init__(self, user: Any, known: Mapping[str, int]) -> None:
        self._known = known
        self.sent = 0
        self.statuses: dict[int, int] = {}
        self._client = Client(raise_request_exception=False, SERVER_NAME="localhost")
        self._client.force_login(user)
        self._session = self._client.cookies[settings.SESSION_COOKIE_NAME].value
        self.schema = schemathesis.openapi.from_dict(self._client.get("/api/schema").json())

    def operations(self) -> list[Any]:
        return [found.ok() for found in self.schema.get_all_operations()]

    def fuzz(self, operation: Any, examples: int, seeded: bool = True) -> list[str]:
        """Send so many requests to an operation; returns what was answered that the schema does not name."""
        wrong: list[str] = []

        @hypothesis_settings(
            max_examples=examples, deadline=None, database=None, derandomize=seeded, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(
            case=st.sampled_from(list(GenerationMode)).flatmap(lambda mode: _cases(operation, mode)),
            there=st.booleans(),
        )
        def send(case: Any, there: bool) -> None:
            if there:
                case.path_parameters = {**(case.path_parameters or {}), **self._named(operation)}
            with transaction.atomic():
                found = self._answer(case)
                transaction.set_rollback(True)
            if found:
                wrong.append(found)

        send()
        return wrong

    def _named(self, operation: Any) -> dict[str, int]:
        return {name: self._known[name] for name in self._known if f"{{{name}}}" in operation.path}

    def _answer(self, case: Any) -> str:
        """What is wrong with the answer to one request; empty where nothing is."""
        sent = case.as_transport_kwargs(base_url="http://localhost")
        headers = {f"HTTP_{name.upper().replace('-', '_')}": str(value) for name, value in sent["headers"].items()
                   if name.lower() not in ("content-type", "content-length", "host", "cookie")}  # fmt: skip
        kind = next((v for n, v in sent["headers"].items() if n.lower() == "content-type"), "application/json")
        prepared = _prepared(sent)
        # Whoever was signed out by the request before is signed in again.
        self._client.cookies[settings.SESSION_COOKIE_NAME] = self._session
        answer = self._client.generic(
            sent["method"], prepared[0], prepared[1], content_type=prepared[2] or kind, **headers
        )
        self.sent += 1
        self.statuses[answer.status_code] = self.statuses.get(answer.status_code, 0) + 1
        told = (
            f"{sent['method']} {prepared[0]} {prepared[1][:300]!r}: {answer.status_code} {answer.getvalue()[:300]!r}"
        )
        if answer.status_code >= 500:
            return told
        responses = case.operation.definition.raw["responses"]
        if str(answer.status_code) not in responses and str(answer.status_code) not in STATUSES:
            return f"a status that the schema does not name: {told}"
        if answer.status_code >= 400 and (not _is_json(answer) or list(answer.json()) != ["detail"]):
            return f"an error of another form: {told}"
        return ""


def _cases(operation: Any, mode: GenerationMode) -> st.SearchStrategy[Any]:
    return operation.as_strategy(generation_mode=mode)


def _prepared(sent: Mapping[str, Any]) -> tuple[str, bytes, str]:
    """Path with query, body and content type of what would go over the wire."""
    import requests

    known = {name: sent[name] for name in ("method", "url", "params", "json", "data", "files") if name in sent}
    request = requests.Request(**known).prepare()
    body = request.body or b""
    return (
        request.path_url,
        body if isinstance(body, bytes) else body.encode("utf-8", "surrogatepass"),
        str(request.headers.get("Content-Type", "")),
    )


def _is_json(answer: Any) -> bool:
    return str(answer.headers.get("Content-Type", "")).startswith("application/json")
