"""Markdown to a document: what a reader sees, without the marks."""

from collections.abc import Sequence

from markdown_it import MarkdownIt
from markdown_it.token import Token

from doppio.core.formats.table import row_text
from doppio.core.text.document import CODE, HEADING, ITEM, PARAGRAPH, ROW, Document, DocumentBuilder

_PARSER = MarkdownIt("commonmark", {"html": False}).enable("table")


def read_markdown(text: str, identity: str) -> Document:
    """Read CommonMark with tables; a table row becomes one line that carries its column names."""
    builder = DocumentBuilder()
    lists: list[int | None] = []
    depth_in_item = 0
    marker = ""
    heading_level = 0
    header: list[str] = []
    cells: list[str] = []
    in_header = in_cell = False
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
        elif kind in ("fence", "code_block"):
            builder.add(CODE, token.content)
        elif kind == "inline":
            words = _plain(token.children or [])
            if heading_level:
                builder.add(HEADING, " ".join(words.split()), heading_level)
            elif in_cell:
                cells.append(" ".join(words.split()))
            elif depth_in_item:
                builder.add(ITEM, marker + words, depth_in_item)
                marker = ""
            else:
                builder.add(PARAGRAPH, words)
        elif kind in ("th_open", "td_open", "th_close", "td_close"):
            in_cell = kind.endswith("open")
    return builder.build(identity)


def _plain(children: Sequence[Token]) -> str:
    parts = []
    for child in children:
        if child.type in ("text", "code_inline"):
            parts.append(child.content)
        elif child.type in ("softbreak", "hardbreak"):
            parts.append("\n" if child.type == "hardbreak" else " ")
        elif child.type == "image":
            parts.append(_plain(child.children or []))
    return "".join(parts)
