"""The Model Context Protocol over HTTP, spoken by its SDK in the thread of the request.

Every request stands for itself: which key asks decides what it may use, and no process keeps a session.
"""

from collections.abc import Callable
from typing import Any, TypeVar

import anyio
from django.db import connection
from django.http import HttpRequest, HttpResponse
from mcp.server.streamable_http_manager import StreamableHTTPSessionManager

from doppio.core.question.reading import Beside
from doppio.library.pictures import figure
from doppio.serving.asking import Wanted, search
from doppio.serving.keys import count_use
from doppio.serving.models import Key
from doppio.serving.reading import listed, read
from doppio.serving.tools import tool_server

T = TypeVar("T")
# Headers that say how the connection is kept, which the web server decides.
_HOPS = {"connection", "keep-alive", "transfer-encoding", "content-length"}


class InProcess:
    """Tools that ask in this process for a key; each call counts against its limits."""

    def __init__(self, key: Key) -> None:
        self._key = key

    def search(self, question: str, k: int | None, only: str) -> dict[str, Any]:
        return _apart(lambda: self._search(question, k, only))

    def documents(self, after: int) -> list[dict[str, Any]]:
        return _apart(lambda: listed(self._key.published, after))

    def read(self, document: int, section: int | None) -> dict[str, Any]:
        return _apart(lambda: read(self._key.published, document, "" if section is None else str(section)))

    def picture(self, document: int, number: int) -> tuple[bytes, str]:
        return _apart(lambda: figure(self._key.published.workspace, document, number))

    def _search(self, question: str, k: int | None, only: str) -> dict[str, Any]:
        count_use(self._key)
        wanted = Wanted(question, Beside(conditions=only), k)
        return search(self._key.published, self._key, wanted).body


def _apart(work: Callable[[], T]) -> T:
    """Work of a thread that the SDK made, whose connection to the database ends with it."""
    try:
        return work()
    finally:
        connection.close()


def speak(request: HttpRequest, key: Key) -> HttpResponse:
    """The answer to a request of the protocol."""
    published = key.published
    server = tool_server(published.name, published.workspace.name, InProcess(key), key.scopes)
    return anyio.run(_spoken, server, request)


async def _spoken(server: Any, request: HttpRequest) -> HttpResponse:
    manager = StreamableHTTPSessionManager(server._lowlevel_server, json_response=True, stateless=True)
    body = request.body
    headers = [(name.lower().encode("latin-1"), value.encode("latin-1")) for name, value in request.headers.items()]
    scope = {
        "type": "http", "http_version": "1.1", "method": request.method, "scheme": request.scheme,
        "path": request.path, "raw_path": request.path.encode(), "query_string": b"", "root_path": "",
        "headers": headers, "client": None, "server": None,
    }  # fmt: skip
    sent: list[dict[str, Any]] = []
    given = [{"type": "http.request", "body": body, "more_body": False}]

    async def receive() -> dict[str, Any]:
        if given:
            return given.pop()
        await anyio.sleep_forever()
        raise AssertionError

    async def send(message: Any) -> None:
        sent.append(dict(message))

    async with manager.run():
        await manager.handle_request(scope, receive, send)
    begun = next(one for one in sent if one["type"] == "http.response.start")
    content = b"".join(one.get("body", b"") for one in sent if one["type"] == "http.response.body")
    response = HttpResponse(content, status=begun["status"])
    del response["Content-Type"]
    for name, value in begun["headers"]:
        if name.decode().lower() not in _HOPS:
            response[name.decode()] = value.decode("latin-1")
    return response
