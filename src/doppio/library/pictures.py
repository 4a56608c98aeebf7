"""Pages and pictures of documents as they are seen: drawn from the kept file once, and kept beside it."""

import base64
import threading
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from django.conf import settings
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404

from doppio.core.errors import DocumentError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import is_picture
from doppio.core.formats.optical import EDITION, ReadLine
from doppio.core.formats.picture_file import ENDINGS
from doppio.core.text.pictures import Line, Picture
from doppio.library import files
from doppio.library.models import Document, Workspace
from doppio.library.signals import still_needed

PICTURE_WIDTH = 900
# Of the kept lines of pages; it goes up when others would be found.
LINES_EDITION = 1
# Pictures that were asked by, and for how many seconds they are kept.
ASKED, ASKED_KEPT = "asked", 30 * 24 * 3600
PNG = b"\x89PNG"


class _Painter:
    """One process that draws pages and pictures, for all requests."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._reader = BoundedReader()

    def picture(self, data: bytes, name: str, page: int) -> bytes:
        with self._lock:
            return self._reader.picture(data, name, page, PICTURE_WIDTH)

    def figures(self, data: bytes, name: str, pictures: Sequence[Picture]) -> list[bytes | None]:
        with self._lock:
            return self._reader.pictures(data, name, pictures)

    def lines(self, data: bytes, name: str, page: int) -> list[Line]:
        with self._lock:
            return self._reader.lines(data, name, page)

    def words(self, picture: bytes, name: str) -> list[ReadLine]:
        """The lines of a picture that was drawn, read off."""
        with self._lock:
            return self._reader.words(picture, name, 0)


_painter = _Painter()


def page_picture(row: Document, page: int) -> bytes:
    """A page of a PDF as PNG."""
    assert row.file is not None
    return page_drawn(row.file.digest, row.name, page)


def page_drawn(digest: str, name: str, page: int) -> bytes:
    """A page of a PDF file as PNG; it is drawn once, and kept."""
    path = files.pages_of(digest) / f"{page}.png"
    if path.exists():
        return path.read_bytes()
    picture = _painter.picture(files.kept(digest, name), name, page)
    files.put(path, picture)
    return picture


def page_lines(digest: str, name: str, page: int) -> list[Line]:
    """The lines of a page of a PDF file and where they stand: those that were read off it when it was imported, or
    those of its text, which are looked for once, and kept."""
    read = files.PageReadings(digest).get(page)
    if read is not None:
        return [line.placed for line in read]
    path = files.pages_of(digest) / f"lines-{LINES_EDITION}-{page}.json"
    lines = files.kept_lines(path)
    if lines is None:
        found = _painter.lines(files.kept(digest, name), name, page)
        lines = [ReadLine(text, 1.0, place) for text, place in found]
        files.keep_lines(path, lines)
    return [line.placed for line in lines]


def drawn(digest: str, name: str, pictures: Sequence[Picture], number: int) -> bytes:
    """A picture of a document, by its number from 1; all of them are drawn when the first is looked at.

    Parameters
    ----------
    digest, name : of the file
    pictures : all of the document

    Raises
    ------
    DocumentError
        If it is broken, or the file is gone.
    """
    folder = files.pages_of(digest)
    path = folder / f"picture-{number}"
    if not path.exists():
        for place, picture in enumerate(_painter.figures(files.kept(digest, name), name, pictures), 1):
            files.put(folder / f"picture-{place}", picture or b"")
    shown = path.read_bytes() if path.exists() else b""
    if not shown:
        raise DocumentError(f"{name}: picture {number} cannot be drawn; it is broken")
    return shown


def words(digest: str, name: str, pictures: Sequence[Picture], number: int) -> list[ReadLine]:
    """The lines that can be read on a picture; see `drawn`. They are read once, and kept."""
    path = files.pages_of(digest) / f"picture-{number}.words-{EDITION}.json"
    lines = files.kept_lines(path)
    if lines is None:
        lines = _painter.words(drawn(digest, name, pictures, number), f"{name}, picture {number}")
        files.keep_lines(path, lines)
    return lines


def keep_asked(data: bytes, name: str) -> str:
    """Keep a picture that somebody asks by, as it is drawn; returns its digest.

    Parameters
    ----------
    name : its ending says what it is

    Raises
    ------
    DocumentError
        If it is no picture, or one that is refused.
    """
    if not is_picture(name):
        raise DocumentError(f"{name}: no picture; endings of pictures are {', '.join(ENDINGS)}")
    [picture] = _painter.figures(data, name, [])
    if picture is None:
        raise DocumentError(f"{name}: a broken picture")
    digest = files.file_digest(picture)
    files.put(_asked(digest), picture)
    return digest


def asked(digest: str) -> bytes:
    """A picture that somebody asks by.

    Raises
    ------
    DocumentError
        If it is not kept any more.
    """
    try:
        return _asked(digest).read_bytes()
    except FileNotFoundError as error:
        raise DocumentError("picture: is not kept any more; drop it again") from error


def packed_asked(digest: str) -> str:
    """A picture that is asked by in base64; nothing where there is none, or it is not kept any more."""
    if not digest:
        return ""
    try:
        return base64.b64encode(asked(digest)).decode()
    except DocumentError:
        return ""


def unpacked_asked(packed: str) -> str:
    """Keep a picture that comes in base64, as `packed_asked` gives it; returns its digest.

    Raises
    ------
    DocumentError
        If it is no picture.
    """
    if not packed:
        return ""
    try:
        return keep_asked(base64.b64decode(packed, validate=True), "picture.png")
    except ValueError as error:
        raise DocumentError(f"picture: not base64 ({error})") from error


def forget_asked(sender: object, now: datetime, **_: object) -> None:
    """Delete pictures that were asked by so long ago that nobody goes back to them, and that no question keeps."""
    old = {
        path.name: path
        for path in Path(settings.DOPPIO_FILES).glob(f"{ASKED}/*")
        if path.stat().st_mtime < now.timestamp() - ASKED_KEPT
    }
    for _receiver, needed in still_needed.send(None, digests=set(old)) if old else ():
        assert isinstance(needed, set)
        old = {name: path for name, path in old.items() if name not in needed}
    for path in old.values():
        path.unlink(missing_ok=True)


def _asked(digest: str) -> Path:
    return Path(settings.DOPPIO_FILES) / ASKED / digest


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
    if row.file is None or not 1 <= number <= len(row.pictures):
        raise Http404(f"No picture {number} in document {document}")
    shown = drawn(row.file.digest, row.file.name, [Picture.from_json(one) for one in row.pictures], number)
    return shown, "png" if shown.startswith(PNG) else "jpeg"


def figure_of(workspace: Workspace, document: int, number: int) -> HttpResponse:
    """The same as an answer to a request."""
    shown, _ = figure(workspace, document, number)
    return picture_answer(shown)


def picture_answer(shown: bytes) -> HttpResponse:
    """A picture, PNG or JPEG, as an answer to a request."""
    answer = HttpResponse(shown, content_type="image/png" if shown.startswith(PNG) else "image/jpeg")
    answer["Cache-Control"] = "private, max-age=86400"
    return answer
