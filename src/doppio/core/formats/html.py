"""HTML to a document: the visible text of the main part; nothing in the file is executed or fetched."""

from collections.abc import Mapping
from typing import Any

from bs4 import BeautifulSoup, Comment, Doctype, NavigableString, Tag

from doppio.core.formats.beside import address_of, apart, plain
from doppio.core.formats.drawing import add_picture, carried
from doppio.core.formats.inline_drawing import taken_out
from doppio.core.formats.table import row_text
from doppio.core.text.document import CAPTION, CODE, HEADING, ITEM, PARAGRAPH, ROW, Document, DocumentBuilder
from doppio.core.text.metadata import Value, typed

_FOR_BROWSERS = {"viewport", "generator", "theme-color", "robots", "color-scheme", "referrer"}
_DROPPED = ["script", "style", "noscript", "template", "nav", "iframe", "object", "svg", "head", "form"]
_HEADINGS = {f"h{level}": level for level in range(1, 7)}
_BLOCKS = {*_HEADINGS, "p", "li", "tr", "pre", "table", "ul", "ol", "div", "section", "article", "main", "body",
           "header", "footer", "aside", "blockquote", "dl", "dt", "dd", "figure", "figcaption", "address", "html",
           "thead", "tbody", "caption"}  # fmt: skip


def read_html(text: str, identity: str) -> Document:
    """Read HTML; scripts, styles, navigation and forms are left out, table rows carry their column names."""
    text, pictures = apart(text)
    text, inside = taken_out(text)
    pictures |= inside
    soup = BeautifulSoup(text, "lxml")
    title = soup.title.get_text(" ", strip=True) if soup.title else None
    metadata = _metadata(soup)
    for tag in soup.find_all(_DROPPED):
        tag.decompose()
    for tag in soup.find_all("br"):
        tag.replace_with("\n")
    builder = DocumentBuilder()
    _Walk(builder, pictures, _around_blocks(soup)).below(soup.find("main") or soup.body or soup)
    document = builder.build(identity, None, metadata)
    has_heading = any(block.kind == HEADING for block in document.blocks)
    return document if has_heading or not title else builder.build(identity, title, metadata)


def _metadata(soup: BeautifulSoup) -> dict[str, Value]:
    """What `<meta name=... content=...>` says, less what is meant for browsers; keywords become a list."""
    found: dict[str, Any] = {}
    for tag in soup.find_all("meta", attrs={"name": True, "content": True}):
        name, content = str(tag["name"]).strip(), str(tag["content"])
        if name.lower() not in _FOR_BROWSERS:
            found[name] = content.split(",") if name.lower() == "keywords" else content
    return typed(found)


def _around_blocks(soup: BeautifulSoup) -> set[int]:
    """Which tags (by `id`) have a block somewhere inside; one pass, however deep they are nested."""
    around: set[int] = set()
    for block in soup.find_all(list(_BLOCKS)):
        for parent in block.parents:
            if id(parent) in around:
                break
            around.add(id(parent))
    return around


class _Walk:
    """Adds the blocks of a page to a document.

    pictures : those that stand beside the page or in its text, by what is looked for in their place
    around : which tags (by `id`) have a block somewhere inside
    """

    def __init__(self, builder: DocumentBuilder, pictures: Mapping[str, bytes], around: set[int]) -> None:
        self._builder, self._pictures, self._around = builder, pictures, around

    def below(self, parent: Tag, depth: int = 0) -> None:
        """Add the blocks below a tag; text that stands between blocks becomes paragraphs."""
        loose: list[str] = []

        def flush() -> None:
            self._builder.add(PARAGRAPH, " ".join("".join(loose).split()))
            loose.clear()

        for child in parent.children:
            if isinstance(child, Comment | Doctype):
                continue
            if isinstance(child, NavigableString):
                loose.append(str(child))
            elif isinstance(child, Tag) and child.name not in _BLOCKS and id(child) not in self._around:
                loose.append(child.get_text())
                for picture in [child] if child.name == "img" else child.find_all("img"):
                    flush()
                    self._picture(picture)
            elif isinstance(child, Tag):
                flush()
                self._block(child, depth)
        flush()

    def _picture(self, tag: Tag) -> None:
        """A picture that came with the page; others are not fetched."""
        said = {name: str(value) for name, value in tag.attrs.items()}
        data = self._pictures.get(plain(address_of(said))) or carried(said.get("src", ""))
        if data is not None:
            add_picture(self._builder, data, str(tag.get("alt") or ""))

    def _block(self, tag: Tag, depth: int) -> None:
        self._words_of(tag, depth)
        if tag.name == "table" or (tag.name not in ("ul", "ol") and id(tag) not in self._around):
            for picture in tag.find_all("img"):
                self._picture(picture)

    def _words_of(self, tag: Tag, depth: int) -> None:
        builder = self._builder
        if tag.name in _HEADINGS:
            builder.add(HEADING, _words(tag), _HEADINGS[tag.name])
        elif tag.name == "figcaption":
            builder.add(CAPTION, _words(tag))
        elif tag.name == "pre":
            builder.add(CODE, tag.get_text())
        elif tag.name == "table":
            _table(builder, tag)
        elif tag.name in ("ul", "ol"):
            for number, item in enumerate(tag.find_all("li", recursive=False), 1):
                marker = "- " if tag.name == "ul" else f"{number}. "
                nested = item.find_all(["ul", "ol"], recursive=False)
                for inner in nested:
                    inner.extract()
                builder.add(ITEM, marker + _words(item), depth + 1)
                for picture in item.find_all("img"):
                    self._picture(picture)
                for inner in nested:
                    self._block(inner, depth + 1)
        elif id(tag) in self._around:
            self.below(tag, depth)
        else:
            builder.add(PARAGRAPH, _words(tag))


def _words(tag: Tag) -> str:
    return " ".join(tag.get_text().split())


def _table(builder: DocumentBuilder, table: Tag) -> None:
    caption = table.find("caption")
    if caption is not None:
        builder.add(CAPTION, " ".join(caption.get_text().split()))
    header: list[str] = []
    for row in table.find_all("tr"):
        cells = [" ".join(cell.get_text().split()) for cell in row.find_all(["td", "th"])]
        if not header and row.find("td") is None:
            header = cells
        else:
            builder.add(ROW, row_text(header, cells))
