"""Which files are documents, and how are they read? A folder, one file, or JSONL."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from doppio.core.errors import DocumentError
from doppio.core.formats.html import read_html
from doppio.core.formats.markdown import read_markdown
from doppio.core.formats.plain import read_plain
from doppio.core.formats.table import read_csv
from doppio.core.text.canonical import decode
from doppio.core.text.document import Document

READERS = {
    ".md": read_markdown,
    ".markdown": read_markdown,
    ".html": read_html,
    ".htm": read_html,
    ".txt": read_plain,
    ".csv": read_csv,
}


def read_documents(path: Path) -> list[Document]:
    """Read all documents below a folder (in the order of their names), of one file, or of a JSONL file.

    Raises
    ------
    DocumentError
        If there is none, one cannot be read, or two have the same id; names the file and the line.
    """
    if path.suffix == ".jsonl" and path.is_file():
        documents = list(_jsonl(path))
    elif path.is_file():
        documents = [read_document(path.read_bytes(), path.name)]
    elif path.is_dir():
        files = sorted(file for file in path.rglob("*") if file.is_file() and file.suffix.lower() in READERS)
        documents = [read_document(file.read_bytes(), file.relative_to(path).as_posix()) for file in files]
    else:
        raise DocumentError(f"{path}: no such file or folder")
    if not documents:
        raise DocumentError(f"{path}: no documents; known endings are {', '.join(READERS)} and .jsonl")
    return documents


def read_document(data: bytes, identity: str) -> Document:
    """Read one document; `identity` is its name with an ending that tells the format.

    Raises
    ------
    DocumentError
        If the ending is unknown, the bytes cannot be decoded, or nothing can be read from them.
    """
    ending = Path(identity).suffix.lower()
    if ending not in READERS:
        raise DocumentError(f"{identity}: unknown ending {ending!r}; known are {', '.join(READERS)}")
    document = READERS[ending](decode(data, identity), identity)
    if not document.text:
        raise DocumentError(f"{identity}: holds no text")
    return document


def _jsonl(path: Path) -> Iterator[Document]:
    seen: dict[str, int] = {}
    for number, record in json_lines(path, DocumentError):
        where = f"{path}, line {number}"
        identity, text = record.get("id"), record.get("text")
        if not isinstance(identity, str) or not identity:
            raise DocumentError(f"{where}: id: missing or not a text")
        if not isinstance(text, str) or not text.strip():
            raise DocumentError(f"{where}: text: missing, empty or not a text")
        if identity in seen:
            raise DocumentError(f"{where}: id: {identity!r} stands in line {seen[identity]} already")
        seen[identity] = number
        plain = read_plain(text, identity)
        title = record.get("title") or plain.title
        yield Document(identity, title, plain.text, plain.blocks, plain.sections, record.get("metadata") or {})


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
        lines = decode(data, str(path)).split("\n")
    except DocumentError as reason:
        raise error(str(reason)) from reason
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            record = json.loads(line)
        except json.JSONDecodeError as reason:
            raise error(f"{path}, line {number}: not JSON ({reason.msg}, column {reason.colno})") from reason
        if not isinstance(record, dict):
            raise error(f"{path}, line {number}: not a JSON object")
        yield number, record
