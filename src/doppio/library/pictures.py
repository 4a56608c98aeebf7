"""Pages and pictures of documents as they are seen: drawn from the kept file once, and kept beside it."""

import threading
from pathlib import Path

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404

from doppio.core.errors import DocumentError
from doppio.core.formats.bounded import BoundedReader
from doppio.library import files
from doppio.library.models import Document, Workspace
from doppio.library.texts import figures_of

PICTURE_WIDTH = 900
PNG = b"\x89PNG"


class _Painter:
    """One process that draws pages and pictures, for all requests."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._reader = BoundedReader()

    def picture(self, data: bytes, name: str, page: int) -> bytes:
        with self._lock:
            return self._reader.picture(data, name, page, PICTURE_WIDTH)

    def figures(self, data: bytes, name: str) -> list[bytes | None]:
        with self._lock:
            return self._reader.pictures(data, name)


_painter = _Painter()


def page_picture(row: Document, page: int) -> bytes:
    """A page of a PDF as PNG."""
    assert row.file is not None
    path = files.pages_of(row.file.digest) / f"{page}.png"
    if path.exists():
        return path.read_bytes()
    picture = _painter.picture(files.kept(row.file.digest, row.name), row.name, page)
    _put(path, picture)
    return picture


def _figure(row: Document, number: int) -> bytes:
    """A picture of a document; all of them are drawn when the first is looked at."""
    assert row.file is not None
    folder = files.pages_of(row.file.digest)
    path = folder / f"picture-{number}"
    if not path.exists():
        drawn = _painter.figures(files.kept(row.file.digest, row.name), row.file.name)
        for place, picture in enumerate(drawn, 1):
            _put(folder / f"picture-{place}", picture or b"")
    shown = path.read_bytes() if path.exists() else b""
    if not shown:
        raise DocumentError(f"{row.name}: picture {number} cannot be drawn; it is broken")
    return shown


def _put(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    draft = path.with_suffix(f".{threading.get_ident()}")
    draft.write_bytes(data)
    draft.rename(path)


def figure(workspace: Workspace, document: int, number: int) -> tuple[bytes, str]:
    """A picture of a document, by its number from 1, and its format: `png` or `jpeg`.

    Raises
    ------
    Http404
        If there is none.
    DocumentError
        If it cannot be drawn.
    """
    row = get_object_or_404(workspace.documents.select_related("file"), pk=document)
    if not 1 <= number <= len(figures_of(row)):
        raise Http404(f"No picture {number} in document {document}")
    shown = _figure(row, number)
    return shown, "png" if shown.startswith(PNG) else "jpeg"


def figure_of(workspace: Workspace, document: int, number: int) -> HttpResponse:
    """The same as an answer to a request."""
    shown, kind = figure(workspace, document, number)
    answer = HttpResponse(shown, content_type=f"image/{kind}")
    answer["Cache-Control"] = "private, max-age=86400"
    return answer
