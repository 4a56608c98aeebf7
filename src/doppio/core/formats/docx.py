"""DOCX to a document: headings from styles and outline levels, lists, tables, captions, page breaks."""

import io
from collections.abc import Iterator
from typing import Any

import docx
from docx.document import Document as WordFile
from docx.oxml.ns import qn
from docx.table import Table
from docx.text.paragraph import Paragraph

from doppio.core.errors import DocumentError
from doppio.core.formats.archive import open_archive
from doppio.core.formats.captions import CAPTION_LINE
from doppio.core.formats.drawing import add_picture
from doppio.core.formats.table import row_text
from doppio.core.text.document import CAPTION, CODE, HEADING, ITEM, PARAGRAPH, ROW, Document, DocumentBuilder
from doppio.core.text.metadata import Value, typed

_COMPOUND = b"\xd0\xcf\x11\xe0"
_HIDDEN = {qn("w:del"), qn("w:moveFrom"), qn("w:txbxContent"), qn("w:pPr"), qn("w:rPr")}


def read_docx(data: bytes, identity: str) -> Document:
    """Read a DOCX file.

    Notes
    -----
    Text that was deleted with changes tracked is left out, inserted text is read. Headers, footers, notes and text
    boxes are left out. Where there is a paragraph in the style "Title", it is the one section of level 1.

    Raises
    ------
    DocumentError
        If the file is encrypted, in the old binary format, broken, or swells beyond the limits.
    """
    if data.startswith(_COMPOUND):
        raise DocumentError(
            f"{identity}: encrypted, or in the old binary format; save it as .docx without a password"
        )
    open_archive(data, identity).close()
    try:
        file = docx.Document(io.BytesIO(data))
    except Exception as error:
        raise DocumentError(f"{identity}: not a DOCX file that can be read ({error})") from error
    content = list(file.iter_inner_content())
    below_title = any(isinstance(part, Paragraph) and _style(part) == "title" for part in content)
    builder = DocumentBuilder()
    numbering = _Numbering(file)
    page = 1
    if any(_page_breaks(part) for part in content):
        builder.page(page)
    for part in content:
        for _ in range(_page_breaks(part)):
            page += 1
            builder.page(page)
        if isinstance(part, Table):
            _table(builder, part)
            paragraphs = [inner for row in part.rows for cell in row.cells for inner in cell.paragraphs]
            for element in dict.fromkeys(inner._p for inner in paragraphs):
                _pictures(builder, file, element)
        else:
            _paragraph(builder, part, numbering, below_title)
            _pictures(builder, file, part._p)
    metadata, title = _properties(file)
    headings = any(block.kind == HEADING for block in builder.build(identity).blocks)
    return builder.build(identity, None if headings else title, metadata)


def _paragraph(builder: DocumentBuilder, part: Paragraph, numbering: "_Numbering", below_title: bool) -> None:
    text = _text(part._p)
    words = " ".join(text.split())
    style = _style(part)
    level = _outline_level(part)
    if style == "title":
        builder.add(HEADING, words, 1)
    elif level:
        number = numbering.marker(part).removeprefix("- ")
        builder.add(HEADING, number + words, level + below_title)
    elif style == "caption" or CAPTION_LINE.match(words):
        builder.add(CAPTION, words)
    elif "code" in style or "preformatted" in style:
        builder.add(CODE, text)
    else:
        marker = numbering.marker(part)
        builder.add(ITEM if marker else PARAGRAPH, marker + words if words else "", numbering.depth(part))


def _pictures(builder: DocumentBuilder, file: WordFile, element: Any) -> None:
    """Pictures of a paragraph with what is said in their place; those that are linked are passed over."""
    for drawing in element.iter(qn("w:drawing")):
        said = next(drawing.iter(qn("wp:docPr")), None)
        alt = "" if said is None else said.get("descr") or said.get("title") or ""
        for blip in drawing.iter(qn("a:blip")):
            part = file.part.related_parts.get(blip.get(qn("r:embed")))
            if part is not None:
                add_picture(builder, part.blob, alt)


def _table(builder: DocumentBuilder, table: Table) -> None:
    rows: list[list[str]] = []
    for row in table.rows:
        cells: list[str] = []
        seen = None
        for cell in row.cells:
            # A merged cell is handed out once for every column that it covers.
            if cell._tc is not seen:
                cells.append(" ".join(" ".join(_text(part._p) for part in cell.paragraphs).split()))
            elif not rows:
                cells.append("")
            seen = cell._tc
        rows.append(cells)
    header = rows[0] if len(rows) > 1 else []
    for cells in rows[1:] or rows:
        builder.add(ROW, row_text(header, cells))


def _text(element: Any) -> str:
    """Visible text of a paragraph: what was deleted and what stands in text boxes is left out."""
    parts: list[str] = []

    def walk(node: Any) -> Iterator[str]:
        for child in node:
            if child.tag in _HIDDEN:
                continue
            if child.tag == qn("w:t"):
                yield child.text or ""
            elif child.tag in (qn("w:tab"), qn("w:ptab")):
                yield "\t"
            elif child.tag == qn("w:noBreakHyphen"):
                yield "-"
            elif child.tag in (qn("w:br"), qn("w:cr")):
                yield "\n"
            else:
                yield from walk(child)

    parts.extend(walk(element))
    return "".join(parts)


def _style(part: Paragraph) -> str:
    return (part.style.name or "").lower() if part.style is not None else ""


def _outline_level(part: Paragraph) -> int:
    """Level of a heading, from 1; 0 for any other paragraph."""
    found = part._p.xpath("./w:pPr/w:outlineLvl/@w:val")
    style: Any = part.style
    while not found and style is not None:
        found = style.element.xpath("./w:pPr/w:outlineLvl/@w:val")
        style = style.base_style
    level = int(found[0]) + 1 if found and found[0].isdigit() else 0
    if not level and _style(part).startswith("heading "):
        last = _style(part).rsplit(" ", 1)[-1]
        level = int(last) if last.isdigit() else 0
    return level if level <= 9 else 0


def _page_breaks(part: Paragraph | Table) -> int:
    """Pages that begin in this paragraph, as far as the file tells."""
    if isinstance(part, Table):
        return 0
    hard = len(part._p.xpath('.//w:br[@w:type="page"]')) + len(part._p.xpath("./w:pPr/w:pageBreakBefore"))
    return hard or len(part._p.xpath(".//w:lastRenderedPageBreak"))


def _properties(file: WordFile) -> tuple[dict[str, Value], str | None]:
    core = file.core_properties
    found = {
        "subject": core.subject,
        "category": core.category,
        "version": core.version,
        "status": core.content_status,
    }
    keywords = [word.strip() for word in (core.keywords or "").replace(";", ",").split(",") if word.strip()]
    dates = {"created": core.created, "changed": core.modified}
    days = {key: value.date() for key, value in dates.items() if value}
    return typed({**found, "keywords": keywords, **days}), core.title or None


class _Numbering:
    """Markers of list paragraphs, counted as the file says."""

    def __init__(self, file: WordFile) -> None:
        self._formats: dict[tuple[str, str], str] = {}
        self._counts: dict[tuple[str, int], int] = {}
        try:
            element = file.part.numbering_part.element
        except (KeyError, NotImplementedError):
            return
        abstract = {node.get(qn("w:abstractNumId")): node for node in element.findall(qn("w:abstractNum"))}
        for number in element.findall(qn("w:num")):
            link = number.find(qn("w:abstractNumId"))
            node = abstract.get(link.get(qn("w:val"))) if link is not None else None
            for level in node.findall(qn("w:lvl")) if node is not None else []:
                shape = level.find(qn("w:numFmt"))
                key = (number.get(qn("w:numId")), level.get(qn("w:ilvl")))
                self._formats[key] = shape.get(qn("w:val")) if shape is not None else "bullet"

    def depth(self, part: Paragraph) -> int:
        found = self._of(part)
        return found[1] + 1 if found else 0

    def marker(self, part: Paragraph) -> str:
        """`- ` or the number of a list paragraph; empty for any other."""
        found = self._of(part)
        if not found:
            return ""
        number, level = found
        shape = self._formats.get((number, str(level)), "bullet")
        if shape in ("bullet", "none"):
            return "- " if shape == "bullet" else ""
        for key in [key for key in self._counts if key[0] == number and key[1] > level]:
            del self._counts[key]
        self._counts[number, level] = self._counts.get((number, level), 0) + 1
        above = [self._counts.get((number, higher), 1) for higher in range(level + 1)]
        if _outline_level(part):
            return ".".join(map(str, above)) + " "
        return f"{above[-1]}. "

    def _of(self, part: Paragraph) -> tuple[str, int] | None:
        sources = [part._p]
        style: Any = part.style
        while style is not None:
            sources.append(style.element)
            style = style.base_style
        for source in sources:
            number = source.xpath("./w:pPr/w:numPr/w:numId/@w:val")
            if number:
                level = source.xpath("./w:pPr/w:numPr/w:ilvl/@w:val")
                return (number[0], int(level[0]) if level else 0) if number[0] != "0" else None
        return None
