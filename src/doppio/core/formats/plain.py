"""Plain text to a document: paragraphs, list items, and headings where the text shows them."""

import regex

from doppio.core.formats.captions import CAPTION_LINE
from doppio.core.text.document import CAPTION, HEADING, ITEM, PARAGRAPH, Document, DocumentBuilder

_UNDERLINE = regex.compile(r"^([=\-~*])\1{2,}$")
_NUMBERED = regex.compile(r"^(\d+(?:\.\d+)*)[.)]?\s+\p{Lu}")
_ITEM = regex.compile(r"^\s*(?:[-*•]|\d+[.)]|\(?[a-z]\))\s+")
_HEADING_MAX = 80


def read_plain(text: str, identity: str) -> Document:
    """Read plain text.

    Notes
    -----
    A heading is a paragraph of one line that is underlined, in capitals, or numbered like `3.2 Title` and not
    a sentence. Numbers give the level; an underlined line is level 1 (`=`) or 2. Lines of a paragraph are joined.
    A form feed begins a page.
    """
    builder = DocumentBuilder()
    for number, page in enumerate(text.replace("\r\n", "\n").replace("\r", "\n").split("\f"), 1):
        if "\f" in text:
            builder.page(number)
        _page(builder, page)
    return builder.build(identity)


def _page(builder: DocumentBuilder, text: str) -> None:
    for part in regex.split(r"\n[ \t]*\n\s*", text.strip("\n")):
        lines = [line.rstrip() for line in part.split("\n") if line.strip()]
        while lines:
            level = _heading_level(lines)
            if level:
                underlined = len(lines) > 1 and _UNDERLINE.match(lines[1].strip())
                builder.add(HEADING, lines[0], level)
                lines = lines[2:] if underlined else lines[1:]
            else:
                lines = _paragraph(builder, lines)


def _heading_level(lines: list[str]) -> int:
    line = lines[0].strip()
    if len(line) > _HEADING_MAX or line.endswith((".", ";", ",")):
        return 0
    underline = _UNDERLINE.match(lines[1].strip()) if len(lines) > 1 else None
    if underline:
        return 1 if underline[1] == "=" else 2
    if len(lines) > 1:
        return 0
    numbered = _NUMBERED.match(line)
    if numbered:
        return str(numbered[1]).count(".") + 2
    letters = [sign for sign in line if sign.isalpha()]
    return 2 if len(letters) >= 3 and all(sign.isupper() for sign in letters) else 0


def _paragraph(builder: DocumentBuilder, lines: list[str]) -> list[str]:
    """Add the first block of the lines; returns the lines after it."""
    is_item = bool(_ITEM.match(lines[0]))
    end = 1
    while end < len(lines) and not _ITEM.match(lines[end]):
        end += 1
    text = " ".join(line.strip() for line in lines[:end])
    kind = ITEM if is_item else CAPTION if CAPTION_LINE.match(text) else PARAGRAPH
    builder.add(kind, text)
    return lines[end:]
