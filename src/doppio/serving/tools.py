"""What is published as tools of the Model Context Protocol: search, list what is there, read a section, look at
a picture.

The protocol is spoken by its own SDK. The same tools are offered over HTTP, where they ask in this process, and over
standard input, where they ask a running Doppio.
"""

from collections.abc import Callable, Sequence
from typing import Any, Protocol, TypeVar

from django.http import Http404
from mcp.server import MCPServer
from mcp.server.mcpserver import Image
from mcp.server.mcpserver.exceptions import ToolError
from rest_framework.exceptions import APIException

from doppio.core.errors import DoppioError
from doppio.serving.models import Key

T = TypeVar("T")
# What of a search is told to an assistant; the context as it is written would say the passages twice.
TOLD = ("request", "passages", "answered", "measure", "absent")
INSTRUCTIONS = (
    "Passages of the documents of {title!r}, found for a question. Search first and cite what the passages say by "
    "title, section and page; read a section where a passage is not enough, and look at its pictures if you can see. "
    "Say so where nothing is found."
)


class Tools(Protocol):
    """What the tools do."""

    def search(self, question: str, k: int | None, only: str) -> dict[str, Any]: ...
    def documents(self, after: int) -> list[dict[str, Any]]: ...
    def read(self, document: int, section: int | None) -> dict[str, Any]: ...
    def picture(self, document: int, number: int) -> tuple[bytes, str]:
        """A picture and its format: `png` or `jpeg`."""


def tool_server(name: str, title: str, tools: Tools, scopes: Sequence[str]) -> MCPServer:
    """A server of those tools that a key with these scopes may use."""
    server = MCPServer(
        f"doppio {name}", title=title, instructions=INSTRUCTIONS.format(title=title), log_level="WARNING"
    )
    if Key.SEARCH in scopes:

        @server.tool(title=f"Search {title}")
        def search(question: str, k: int | None = None, only: str = "") -> dict[str, Any]:
            """Find the passages that answer a question.

            question: as somebody would ask it, in full words.
            k: at most so many passages; the usual number where it is left out.
            only: conditions on what may be found, such as `document is wind.md` or `edition from 5`.
            """
            body = _said(lambda: tools.search(question, k, only))
            return {name: body[name] for name in TOLD}

    if Key.READ in scopes:

        @server.tool(title=f"List the documents of {title}")
        def list_documents(after: int = 0) -> dict[str, Any]:
            """List documents with their numbers, 1,000 at a time; `after` is the last number that is known."""
            return {"documents": _said(lambda: tools.documents(after))}

        @server.tool(title=f"Read a document of {title}")
        def read_document(document: int, section: int | None = None) -> dict[str, Any]:
            """Read a document by its number: its outline and its text, or the text of one section by its index."""
            return _said(lambda: tools.read(document, section))

        @server.tool(title=f"Look at a picture of {title}")
        def look_at_picture(document: int, number: int) -> Image:
            """Look at a picture of a document, by the numbers that passages name under `figures`."""
            data, kind = _said(lambda: tools.picture(document, number))
            return Image(data=data, format=kind)

    return server


def _said(work: Callable[[], T]) -> T:
    """What work gives; what it refuses is told to the assistant in the same sentence as to everybody.

    Raises
    ------
    ToolError
        With that sentence.
    """
    try:
        return work()
    except (DoppioError, APIException, Http404) as error:
        raise ToolError(str(getattr(error, "detail", error))) from error
