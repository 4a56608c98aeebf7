"""Markdown to a document: what a reader sees, without the marks."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import regex
import yaml
from markdown_it import MarkdownIt
from markdown_it.token import Token

from doppio.core.errors import DocumentError
from doppio.core.formats.beside import apart, plain
from doppio.core.formats.captions import CAPTION_LINE
from doppio.core.formats.drawing import add_picture, carried
from doppio.core.formats.table import row_text
from doppio.core.text.document import CAPTION, CODE, HEADING, ITEM, PARAGRAPH, ROW, Document, DocumentBuilder
from doppio.core.text.metadata import Value, typed

FRONT_MATTER_MAX = 20_000
_FRONT_MATTER = regex.compile(r"\A\ufeff?---[ \t]*\r?\n(.*?)\r?\n(?:---|\.\.\.)[ \t]*(?:\r?\n|\Z)", regex.DOTALL)
_PARSER = MarkdownIt("commonmark", {"html": False}).enable("table")


def read_markdown(text: str, identity: str) -> Document:
    """Read CommonMark with tables; a table row becomes one line that carries its column names.

    Notes
    -----
    A block of `key: value` lines between two lines of `---` at the very top (YAML) becomes the metadata.

    Raises
    ------
    DocumentError
        If that block is not YAML; names the line.
    """
    text, pictures = apart(text)
    metadata, text = front_matter(text, identity)
    builder = DocumentBuilder()
    lists: list[int | None] = []
    depth_in_item = 0
    marker = ""
    heading_level = 0
    header: list[str] = []
    cells: list[str] = []
    in_header = in_cell = False
    # Pictures of a table's row follow the row.
    held: list[_Shown] = []
    for token in _PARSER.parse(text):
        kind = token.type
        if kind == "heading_open":
            heading_level = int(token.tag[1])
        elif kind == "heading_close":
            heading_level = 0
        elif kind == "bullet_list_open":
            lists.append(None)
        elif kind == "ordered_list_open":
            lists.append(int(token.attrGet("start") or 1))
        elif kind in ("bullet_list_close", "ordered_list_close"):
            lists.pop()
        elif kind == "list_item_open":
            depth_in_item = len(lists)
            number = lists[-1]
            marker = "- " if number is None else f"{number}. "
            if number is not None:
                lists[-1] = number + 1
        elif kind == "list_item_close":
            depth_in_item = len(lists) - 1
            marker = ""
        elif kind in ("thead_open", "thead_close"):
            in_header = kind == "thead_open"
        elif kind == "tr_open":
            cells = []
        elif kind == "tr_close":
            if in_header:
                header = cells
            else:
                builder.add(ROW, row_text(header, cells))
            _add(builder, held)
        elif kind in ("fence", "code_block"):
            builder.add(CODE, token.content)
        elif kind == "inline":
            words = _plain(token.children or [], held, pictures)
            if heading_level:
                builder.add(HEADING, " ".join(words.split()), heading_level)
            elif in_cell:
                cells.append(" ".join(words.split()))
            elif depth_in_item:
                builder.add(ITEM, marker + words, depth_in_item)
                marker = ""
            else:
                builder.add(CAPTION if CAPTION_LINE.match(words) else PARAGRAPH, words)
            if not in_cell:
                _add(builder, held)
        elif kind in ("th_open", "td_open", "th_close", "td_close"):
            in_cell = kind.endswith("open")
    title = metadata.pop("title", None)
    return builder.build(identity, str(title) if title else None, metadata)


def front_matter(text: str, identity: str) -> tuple[dict[str, Value], str]:
    """Metadata at the top of a text, and the text below it."""
    match = _FRONT_MATTER.match(text)
    if not match or len(match[1]) > FRONT_MATTER_MAX:
        return {}, text
    try:
        found = yaml.safe_load(match[1]) if not regex.search(r"(?:^|[\s\[{,])[&*]\w", match[1]) else None
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        line = f", line {mark.line + 2}" if mark else ""
        raise DocumentError(f"{identity}{line}: the block between the lines of --- is not `key: value`") from error
    return (typed(found), text[match.end() :]) if isinstance(found, dict) else ({}, text)


class _Shown(NamedTuple):
    """A picture and what is said in its place."""

    data: bytes
    alt: str


def _add(builder: DocumentBuilder, held: list[_Shown]) -> None:
    for picture in held:
        add_picture(builder, picture.data, picture.alt)
    held.clear()


def _plain(children: Sequence[Token], held: list[_Shown], pictures: Mapping[str, bytes]) -> str:
    """What is read of marked words. Pictures that came with the page are held, to stand below them; of others there
    is what is said in their place."""
    parts = []
    for child in children:
        if child.type in ("text", "code_inline"):
            parts.append(child.content)
        elif child.type in ("softbreak", "hardbreak"):
            parts.append("\n" if child.type == "hardbreak" else " ")
        elif child.type == "image":
            said = _plain(child.children or [], held, pictures)
            address = str(child.attrGet("src") or "")
            data = pictures.get(plain(address)) or carried(address)
            if data is None:
                parts.append(said)
            else:
                held.append(_Shown(data, said or str(child.attrGet("title") or "")))
                # The words around it are parted by one space, not by two.
                if parts and parts[-1].endswith(" "):
                    parts[-1] = parts[-1][:-1]
    return "".join(parts)
