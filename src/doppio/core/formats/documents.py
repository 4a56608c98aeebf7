"""Which files are documents, and how are they read? One file, an archive, or a folder of them."""

import json
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import replace
from importlib import import_module
from pathlib import Path
from typing import Any

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import LIMITS, Limits, members, too_large
from doppio.core.formats.beside import PAGES, pages_of
from doppio.core.formats.optical import Reading, Readings, Unread
from doppio.core.formats.page_reading import PDF, read_page
from doppio.core.formats.picture_file import ENDINGS as PICTURE_FILES
from doppio.core.formats.picture_file import SVG, picture_of, read_picture_file
from doppio.core.formats.records import Fields, json_rows, read_json_documents, read_rows
from doppio.core.text.canonical import decode
from doppio.core.text.document import Document
from doppio.core.text.pictures import Picture

Reader = Callable[[bytes, str, Fields | None], list[Document]]
# Readers by their module below this package: each is imported for the first file that needs it.
TEXT_READERS = {
    ".md": "markdown.read_markdown",
    ".markdown": "markdown.read_markdown",
    ".html": "html.read_html",
    ".htm": "html.read_html",
    ".txt": "plain.read_plain",
    ".csv": "table.read_csv",
}
BYTE_READERS = {".docx": "docx.read_docx"}
ROWS = (".csv", ".jsonl")
# What the readers of these endings find in a file; it goes up when they find more, and the same file is read anew.
EDITION, ENDINGS_OF_EDITION = 3, (*PAGES, ".docx", PDF, SVG)
KNOWN = (*TEXT_READERS, *BYTE_READERS, PDF, ".jsonl", *PICTURE_FILES)
SOURCES = "doppio-sources.json"
SOURCES_FORMAT = "doppio-sources/1"


def read_documents(path: Path, limits: Limits = LIMITS, read: Reader | None = None) -> list[Document]:
    """Read all documents below a folder (in the order of their names), of one file, or of a ZIP archive.

    Parameters
    ----------
    path : Path
    limits : Limits
    read : callable or None
        Reads one file, such as `BoundedReader.documents`; None reads it in this process.

    Raises
    ------
    DocumentError
        If there is none, one cannot be read, or two have the same id; names the file and the line.

    Notes
    -----
    A file `doppio-sources.json` at the top says which fields of CSV and JSONL files are what. Pictures that a page of
    HTML or Markdown shows are part of it, and no documents of their own.
    """
    files = list(_files(path, limits))
    sources: dict[str, Fields] = {}
    for name, data in files:
        if name.rsplit("/", 1)[-1] == SOURCES:
            sources = {
                f"{name.removesuffix(SOURCES)}{file}": fields for file, fields in read_sources(data, name).items()
            }
    data_of = dict(files)
    pages, shown = pages_of(list(data_of), data_of.__getitem__)
    documents: list[Document] = []
    alone = path.is_file() and path.suffix.lower() == ".jsonl"
    for name, data in files:
        if not name.endswith(SOURCES) and name not in shown:
            # What stands in a JSONL file that is given alone keeps its own ids.
            found = (read or read_file)(pages.get(name, data), name, sources.get(name))
            documents += [_renamed(one, one.id.removeprefix(f"{name}#")) for one in found] if alone else found
    if not documents:
        raise DocumentError(f"{path}: no documents; known endings are {', '.join(KNOWN)} and .zip")
    seen: set[str] = set()
    for document in documents:
        if document.id in seen:
            raise DocumentError(f"{path}: two documents have the id {document.id!r}")
        seen.add(document.id)
    return documents


def _files(path: Path, limits: Limits) -> Iterator[tuple[str, bytes]]:
    if path.is_file() and path.suffix.lower() == ".zip":
        for name, content in members(read_bytes(path, limits), path.name, limits):
            if isinstance(content, DocumentError):
                raise content
            if is_known(name):
                yield name, content
    elif path.is_file():
        yield path.name, read_bytes(path, limits)
    elif path.is_dir():
        for file in sorted(file for file in path.rglob("*") if file.is_file() and is_known(file.name)):
            yield file.relative_to(path).as_posix(), read_bytes(file, limits)
    else:
        raise DocumentError(f"{path}: no such file or folder")


def is_known(name: str) -> bool:
    """Whether a file is read by its ending, or says how others are."""
    return name.lower().endswith(KNOWN) or name.rsplit("/", 1)[-1] == SOURCES


def is_picture(name: str) -> bool:
    """Whether a file is a picture."""
    return name.lower().endswith(PICTURE_FILES)


def read_bytes(path: Path, limits: Limits = LIMITS) -> bytes:
    """The bytes of a file that is not too large.

    Raises
    ------
    DocumentError
        If it is too large or cannot be read.
    """
    try:
        size = path.stat().st_size
        if size > limits.file_bytes:
            raise DocumentError(f"{path}: {too_large(size, limits.file_bytes)}")
        return path.read_bytes()
    except OSError as reason:
        raise DocumentError(f"{path}: cannot be read ({reason.strerror})") from reason


def read_file(
    data: bytes, name: str, fields: Fields | None = None, readings: Readings | None = None
) -> list[Document]:
    """Read the documents of one file, which is no archive; `name` has an ending that tells the format.

    Parameters
    ----------
    fields : Fields or None
        What the fields of a CSV or JSONL file are, a row being a document. Without it a CSV file is one document,
        and a JSONL file has `id` and `text` in every line.
    readings : mapping or None
        Lines of pages that are pictures, by their numbers; None reads them here and now, seconds a page.

    Raises
    ------
    DocumentError
        If the ending is unknown, the bytes cannot be decoded, or nothing can be read from them.
    Unread
        If pages are pictures and `readings` has none.
    """
    ending = Path(name).suffix.lower()
    if fields is not None and ending in ROWS:
        documents = read_rows(decode(data, name), name, fields)
    elif ending == ".jsonl":
        found = read_json_documents(decode(data, name), name)
        documents = [_renamed(document, f"{name}#{document.id}") for document in found]
    elif ending in TEXT_READERS:
        documents = [_imported(TEXT_READERS[ending])(decode(data, name), name)]
    elif ending in BYTE_READERS:
        documents = [_imported(BYTE_READERS[ending])(data, name)]
    elif ending == PDF:
        reading = _reading(data, name, readings)
        paged = _imported("pdf_lines.PdfPages")(data, name, reading)
        documents = [replace(_imported("pdf.read_pdf")(data, name, reading), paged=paged)]
    elif ending in PICTURE_FILES:
        # What is no picture is refused before anything is read off it.
        picture_of(data, name)
        reading = _reading(data, name, readings)
        if reading is None:
            raise Unread([1])
        documents = [read_picture_file(data, name, reading(1))]
    else:
        raise DocumentError(f"{name}: unknown ending {ending!r}; known are {', '.join(KNOWN)} and .zip")
    documents = [document for document in documents if document.text.strip()]
    if not documents:
        raise DocumentError(f"{name}: holds no text")
    return documents


def lacking(name: str) -> list[str]:
    """What reads files of this name's ending and is not imported yet, for `import_readers`."""
    ending = Path(name).suffix.lower()
    wanted = [TEXT_READERS.get(ending), BYTE_READERS.get(ending)]
    wanted += ["pdf.read_pdf", "pdf_lines.PdfPages"] if ending == PDF else []
    return [one for one in wanted if one and f"{__package__}.{one.split('.')[0]}" not in sys.modules]


def import_readers(names: Sequence[str]) -> None:
    """Import readers now, for a process that bounds what reading may take."""
    for name in names:
        _imported(name)


def _imported(name: str) -> Callable[..., Any]:
    module, function = name.split(".")
    found: Callable[..., Any] = getattr(import_module(f"doppio.core.formats.{module}"), function)
    return found


def _reading(data: bytes, name: str, readings: Readings | None) -> Reading | None:
    """What gives the lines of a page that is a picture; None where nobody can."""
    if readings is None:
        return lambda page: read_page(data, name, page)
    return (lambda page: readings.get(page, ())) if readings else None


def draw(data: bytes, name: str, pictures: Sequence[Picture]) -> list[bytes]:
    """The pictures of a document that was read from a file, each as PNG or JPEG; empty where one cannot be drawn.

    Raises
    ------
    DocumentError
        If the file cannot be read.
    """
    ending = Path(name).suffix.lower()
    if ending == PDF:
        found: list[bytes] = _imported("pdf.draw_pictures")(data, pictures)
        return found
    if ending in PICTURE_FILES:
        return [_drawn(picture_of(data, name).draw)]
    return [_drawn(one) for document in read_file(data, name) for one in document.drawn]


def _drawn(draw: Callable[[], bytes]) -> bytes:
    """A picture; nothing where it cannot be drawn, which says nothing of the others."""
    try:
        return draw()
    except DocumentError:
        return b""


def _renamed(document: Document, identity: str) -> Document:
    return replace(document, id=identity, title=identity if document.title == document.id else document.title)


def read_sources(data: bytes, name: str) -> Mapping[str, Fields]:
    """Fields of tabular files by the name of the file.

    Raises
    ------
    DocumentError
        Names the key and what is right.
    """
    try:
        body = json.loads(decode(data, name))
    except json.JSONDecodeError as error:
        raise DocumentError(f"{name}, line {error.lineno}: not JSON ({error.msg})") from error
    if not isinstance(body, dict) or body.get("format") != SOURCES_FORMAT or not isinstance(body.get("files"), dict):
        raise DocumentError(f'{name}: not an object with "format": "{SOURCES_FORMAT}" and "files"')
    return {file: Fields.from_json(fields, f"{name}: files.{file}") for file, fields in body["files"].items()}


def json_lines(path: Path, error: type[Exception]) -> Iterator[tuple[int, dict[str, Any]]]:
    """Objects of a JSONL file with their line numbers, from 1; blank lines are passed over.

    Raises
    ------
    error
        If the file cannot be read or a line is not a JSON object; names the file and the line.
    """
    try:
        data = path.read_bytes()
    except OSError as reason:
        raise error(f"{path}: cannot be read ({reason.strerror})") from reason
    try:
        yield from json_rows(decode(data, str(path)), str(path))
    except DocumentError as reason:
        raise error(str(reason)) from reason
