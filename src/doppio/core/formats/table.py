"""Tables: rows that carry the names of their columns, and CSV files."""

import csv
import io
from collections.abc import Iterator, Sequence

from doppio.core.errors import DocumentError
from doppio.core.text.document import HEADING, ROW, Document, DocumentBuilder

MAX_FIELD = 1_000_000


def row_text(header: Sequence[str], cells: Sequence[str]) -> str:
    """One row as text, `Column: value; Column: value`; empty cells are left out."""
    named = [
        f"{name}: {cell}" if name else cell
        for name, cell in zip([*header, *[""] * len(cells)], cells, strict=False)
        if cell
    ]
    return "; ".join(named)


def read_csv(text: str, identity: str) -> Document:
    """Read a CSV file as one document with a row a block.

    Raises
    ------
    DocumentError
        As `csv_rows` does.
    """
    builder = DocumentBuilder()
    title = file_title(identity)
    builder.add(HEADING, title, 1)
    rows = csv_rows(text, identity)
    _, header = next(rows)
    for _, cells in rows:
        builder.add(ROW, row_text(header, [" ".join(cell.split()) for cell in cells]))
    return builder.build(identity, title)


def csv_rows(text: str, identity: str) -> Iterator[tuple[int, list[str]]]:
    """Rows of a CSV file (RFC 4180) with their line numbers, the header first; comma, semicolon or tab is found
    from the header.

    Raises
    ------
    DocumentError
        If there is no header, or a row has more fields than the header; names the line.
    """
    rows = delimited(text, identity, delimiter_of(text))
    header = [name.strip() for name in next(rows, (1, []))[1]]
    if not any(header):
        raise DocumentError(f"{identity}, line 1: no header; the first row must name the columns")
    yield 1, header
    for line, cells in rows:
        if len(cells) > len(header):
            raise DocumentError(
                f"{identity}, line {line}: {len(cells)} fields, but the header names {len(header)}; "
                "put quotes around a field that holds the delimiter"
            )
        yield line, cells


def delimiter_of(text: str) -> str:
    """The delimiter that stands most often in the first line."""
    return max(",;\t", key=text.split("\n", 1)[0].count)


def delimited(text: str, identity: str, delimiter: str, strict: bool = True) -> Iterator[tuple[int, list[str]]]:
    """Cells of a delimited text with their line numbers.

    Raises
    ------
    DocumentError
        If quotes are not as they should be, or a field is too long; names the line.
    """
    csv.field_size_limit(MAX_FIELD)
    reader = csv.reader(io.StringIO(text), delimiter=delimiter, strict=strict)
    try:
        for cells in reader:
            yield reader.line_num, cells
    except csv.Error as error:
        raise DocumentError(f"{identity}, line {reader.line_num}: {error}") from error


def file_title(identity: str) -> str:
    """A title from the name of a file."""
    return identity.rsplit("/", 1)[-1].rsplit(".", 1)[0].replace("-", " ").replace("_", " ").capitalize()
