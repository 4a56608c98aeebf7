"""Tabular sources, CSV and JSONL: a row is a document, and a choice of fields says what of it is matched."""

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from doppio.core.errors import DocumentError
from doppio.core.formats.plain import read_plain
from doppio.core.formats.table import csv_rows
from doppio.core.text.canonical import canonical
from doppio.core.text.document import PARAGRAPH, Document, DocumentBuilder
from doppio.core.text.metadata import typed

SAMPLES = 3
LONGEST_ID = 400
_KEYS = {"id", "title", "matched", "carried"}


@dataclass(frozen=True)
class Fields:
    """Which fields of a row are what.

    matched : fields whose text is cut, indexed and searched
    carried : fields that are handed on with every passage of the row, such as a resolution, a link or a page
    title : field that names the document; the first matched one where it is empty
    id : field that identifies the row from one version of the file to the next; its line number where it is empty
    """

    matched: tuple[str, ...]
    carried: tuple[str, ...] = ()
    title: str = ""
    id: str = ""

    def to_json(self) -> dict[str, Any]:
        return {"matched": list(self.matched), "carried": list(self.carried), "title": self.title, "id": self.id}

    @classmethod
    def from_json(cls, body: Any, where: str) -> "Fields":
        """Check a choice of fields that came from outside.

        Raises
        ------
        DocumentError
            Names the key and what is right.
        """
        if not isinstance(body, Mapping):
            raise DocumentError(f"{where}: not an object with {', '.join(sorted(_KEYS))}")
        unknown = sorted(set(body) - _KEYS)
        if unknown:
            raise DocumentError(f"{where}.{unknown[0]}: unknown key; allowed are {', '.join(sorted(_KEYS))}")
        lists = {}
        for key in ("matched", "carried"):
            value = body.get(key, [])
            if not isinstance(value, list | tuple) or not all(isinstance(name, str) and name for name in value):
                raise DocumentError(f"{where}.{key}: not a list of field names")
            lists[key] = tuple(dict.fromkeys(value))
        for key in ("title", "id"):
            if not isinstance(body.get(key) or "", str):
                raise DocumentError(f"{where}.{key}: not a field name")
        if not lists["matched"]:
            raise DocumentError(f"{where}.matched: empty; name at least one field whose text is searched")
        return cls(lists["matched"], lists["carried"], body.get("title") or "", body.get("id") or "")


def rows_of(text: str, name: str) -> Iterator[tuple[int, dict[str, Any]]]:
    """Rows of a CSV or JSONL file with their line numbers.

    Raises
    ------
    DocumentError
        If a line is not a row; names the line.
    """
    if name.lower().endswith(".csv"):
        found = csv_rows(text, name)
        _, header = next(found)
        for line, cells in found:
            yield line, dict(zip(header, cells, strict=False))
        return
    yield from json_rows(text, name)


def json_rows(text: str, name: str) -> Iterator[tuple[int, dict[str, Any]]]:
    """Objects of a JSONL text with their line numbers, from 1; blank lines are passed over.

    Raises
    ------
    DocumentError
        If a line is not a JSON object; names the line.
    """
    for number, body in enumerate(text.split("\n"), 1):
        if not body.strip():
            continue
        try:
            record = json.loads(body)
        except json.JSONDecodeError as reason:
            raise DocumentError(f"{name}, line {number}: not JSON ({reason.msg}, column {reason.colno})") from reason
        except RecursionError as reason:
            raise DocumentError(f"{name}, line {number}: nested too deeply to be read") from reason
        except ValueError as reason:
            raise DocumentError(f"{name}, line {number}: not JSON ({reason})") from reason
        if not isinstance(record, dict):
            raise DocumentError(f"{name}, line {number}: not a JSON object")
        yield number, record


def fields_seen(text: str, name: str, rows: int = 50) -> list[dict[str, Any]]:
    """Fields of the first rows with sample values, in the order in which they appear, for a person to choose from."""
    seen: dict[str, list[str]] = {}
    for count, (_, row) in enumerate(rows_of(text, name)):
        if count >= rows:
            break
        for key, value in row.items():
            shown = _plain(value)
            samples = seen.setdefault(key, [])
            if shown and shown not in samples and len(samples) < SAMPLES:
                samples.append(shown if len(shown) <= 80 else shown[:77] + "...")
    return [{"name": key, "samples": samples} for key, samples in seen.items() if key]


def read_rows(text: str, name: str, fields: Fields) -> list[Document]:
    """Documents from the rows of a file, one a row.

    Raises
    ------
    DocumentError
        If a chosen field is in no row, or an id is missing or stands twice; names the line.

    Notes
    -----
    A document's id is `FILE#ID`. One matched field is taken as plain text, as it is; of several, each is a paragraph
    that begins with its name. All other fields become metadata. A row without matched text is passed over.
    """
    documents: list[Document] = []
    seen: dict[str, int] = {}
    known: dict[str, None] = {}
    for line, row in rows_of(text, name):
        known.update(dict.fromkeys(row))
        identity = _plain(row.get(fields.id)) if fields.id else str(line)
        if not identity:
            raise DocumentError(f"{name}, line {line}: {fields.id}: empty, but it identifies the row")
        identity = _identity(identity, f"{name}, line {line}: {fields.id or 'id'}")
        if identity in seen:
            raise DocumentError(
                f"{name}, line {line}: {fields.id}: {identity!r} stands in line {seen[identity]} already"
            )
        seen[identity] = line
        document = _document(row, f"{name}#{identity}", fields)
        if document.text.strip():
            documents.append(document)
    for field in (*fields.matched, *fields.carried, fields.title, fields.id):
        if field and field not in known:
            raise DocumentError(f"{name}: no row has the field {field!r}; there are {', '.join(known) or 'none'}")
    return documents


def read_json_documents(text: str, name: str) -> list[Document]:
    """Documents from JSONL with `{"id", "text", "title", "metadata", "carried"}`; `id` and `text` are needed.

    Raises
    ------
    DocumentError
        Names the line and the field.
    """
    documents = []
    seen: dict[str, int] = {}
    for number, record in rows_of(text, name):
        where = f"{name}, line {number}"
        identity, body = record.get("id"), record.get("text")
        if not isinstance(identity, str) or not identity:
            raise DocumentError(f"{where}: id: missing or not a text; choose which fields are what for other rows")
        identity = _identity(identity, f"{where}: id")
        if not isinstance(body, str) or not body.strip():
            raise DocumentError(f"{where}: text: missing, empty or not a text")
        if identity in seen:
            raise DocumentError(f"{where}: id: {identity!r} stands in line {seen[identity]} already")
        for key in ("metadata", "carried"):
            if not isinstance(record.get(key) or {}, dict):
                raise DocumentError(f"{where}: {key}: not an object")
        seen[identity] = number
        plain = read_plain(body, identity)
        carried = {_plain(key): _plain(value) for key, value in (record.get("carried") or {}).items()}
        carried.pop("", None)
        metadata = typed(record.get("metadata") or {})
        title = _plain(record.get("title")) or plain.title
        documents.append(replace(plain, title=title, metadata=metadata, carried=carried))
    return documents


def _document(row: Mapping[str, Any], identity: str, fields: Fields) -> Document:
    title = _plain(row.get(fields.title)) if fields.title else ""
    carried = {name: _plain(row.get(name)) for name in fields.carried if _plain(row.get(name))}
    known = {*fields.matched, *fields.carried, fields.title, fields.id}
    metadata = typed({key: value for key, value in row.items() if key not in known})
    if len(fields.matched) == 1:
        plain = read_plain(_as_text(row.get(fields.matched[0])), identity)
        found = title or plain.title
        shown = found if found != identity else _short(plain.text)
        return replace(plain, title=shown, metadata=metadata, carried=carried)
    builder = DocumentBuilder()
    matched = [(name, _plain(row.get(name))) for name in fields.matched]
    for name, value in matched:
        builder.add(PARAGRAPH, f"{name}: {value}" if value else "")
    return builder.build(
        identity, title or _short(next((value for _, value in matched if value), "")), metadata, carried
    )


def _short(text: str) -> str:
    line = " ".join(text.split())
    return line if len(line) <= 80 else line[:77].rsplit(" ", 1)[0] + "..."


def _identity(given: str, where: str) -> str:
    """What identifies a row, in one line.

    Raises
    ------
    DocumentError
        If it is too long.
    """
    identity = " ".join(canonical(given).split())
    if not identity or len(identity) > LONGEST_ID:
        raise DocumentError(f"{where}: {len(identity):,} characters; 1 to {LONGEST_ID} identify a row")
    return identity


def _plain(value: Any) -> str:
    return canonical(_as_text(value)).strip()


def _as_text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, list) and all(not isinstance(item, dict | list) for item in value):
        return ", ".join(map(str, value))
    if isinstance(value, list | Mapping):
        return json.dumps(value, ensure_ascii=False)
    return str(value)
