"""PDF to a document: text in reading order, headings from size, weight and numbers, ruled tables, pages."""

import io
import logging
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from statistics import median
from typing import Any

import regex
from pdfminer.converter import PDFPageAggregator
from pdfminer.layout import (
    LAParams,
    LTChar,
    LTContainer,
    LTCurve,
    LTFigure,
    LTImage,
    LTPage,
    LTTextBox,
    LTTextLine,
)
from pdfminer.pdfdocument import PDFDocument, PDFEncryptionError, PDFPasswordIncorrect
from pdfminer.pdfinterp import PDFPageInterpreter, PDFResourceManager
from pdfminer.pdfpage import PDFPage
from pdfminer.pdfparser import PDFParser
from pdfminer.utils import decode_text
from PIL import Image

from doppio.core.errors import DocumentError
from doppio.core.formats.captions import CAPTION_LINE
from doppio.core.formats.drawing import LONGEST_SIDE, packed
from doppio.core.formats.optical import (
    READ_CONFIDENCE,
    READ_PAGES,
    Reading,
    ReadLine,
    Unread,
    confidence_of,
)
from doppio.core.formats.pdf_tables import LETTERS, Rules, Table, tables
from doppio.core.formats.scanned import Cells, laid_out, usual_height
from doppio.core.formats.table import row_text
from doppio.core.text.document import CAPTION, HEADING, ITEM, PARAGRAPH, PICTURE, ROW, Document, DocumentBuilder
from doppio.core.text.metadata import Value, typed
from doppio.core.text.pictures import Picture

LARGER = 1.1
# Of a page's area; in points; pages from which on what most of them share is decoration; pixels a point.
LEAST_SHARE, LEAST_POINTS, REPEATED, SHARPNESS = 0.004, 18, 3, 3.0
HEADING_MAX = 140
EDGE = 0.12
# A page is scanned where it has pictures and no text, or no more text than a stamp and pictures over so much of it.
SCANNED_SHARE, STAMP_LETTERS = 0.5, 60
LONGEST_PAGE = 6000
# Height of a line of read print over the size of its letters.
LINE_SPACE = 1.25
_ITEM = regex.compile(r"^(?:[-–•▪◦‣*●○■]|\(?\d{1,3}[.)]|\(?[a-z][.)])\s+")
_BULLET = regex.compile(r"^[–•▪◦‣*●○■]\s*")
_NUMBERED = regex.compile(r"^(\d{1,3}(?:\.\d{1,3}){0,5})[.)]?\s+\p{L}")
_DATE = regex.compile(r"^(?:D:)?(\d{4})(\d{2})(\d{2})")
logging.getLogger("pdfminer").setLevel(logging.ERROR)


@dataclass
class Line:
    """One line of a page; y grows upwards."""

    text: str
    x0: float
    x1: float
    y0: float
    y1: float
    size: float
    bold: bool
    box: int


@dataclass(frozen=True)
class Shown:
    """A picture on a page; y grows upwards. `image` is what the file holds of it, which pages may share, and `held`
    its bytes."""

    x0: float
    x1: float
    y0: float
    y1: float
    image: object = None
    held: bytes = field(default=b"", compare=False, repr=False)

    @property
    def top(self) -> float:
        return self.y1


@dataclass
class Page:
    """What stands on one page, in reading order."""

    number: int
    width: float
    height: float
    lines: list[Line] = field(default_factory=list)
    tables: list[Table] = field(default_factory=list)
    pictures: list[Shown] = field(default_factory=list)

    @property
    def scanned(self) -> bool:
        """Whether it is a picture of a page, whose words have to be read off."""
        covered = sum((shown.x1 - shown.x0) * (shown.y1 - shown.y0) for shown in dict.fromkeys(self.pictures))
        letters = sum(len(line.text) for line in self.lines)
        if self.tables or not self.pictures or letters > STAMP_LETTERS:
            return False
        return not letters or covered >= SCANNED_SHARE * self.width * self.height


def read_pdf(data: bytes, identity: str, reading: Reading | None = None) -> Document:
    """Read a PDF file.

    Parameters
    ----------
    reading : callable or None
        Gives the lines of a page that is a picture, by its number from 1.

    Notes
    -----
    Lines that repeat at the top or the bottom of pages, numbers apart, are left out. A paragraph that goes on on the
    next page is one; the next page begins after it. Words hyphenated at a line's end are joined. Of pages that were
    read off the metadata says which they are and how sure the reader was.

    Raises
    ------
    DocumentError
        If the file is encrypted, broken, or holds no text.
    Unread
        If pages are pictures and there is no `reading`.
    """
    pages, metadata, title = _pages(data, identity)
    scanned = [page for page in pages if page.scanned]
    if scanned and reading is None:
        raise Unread([page.number for page in scanned])
    if reading is not None:
        metadata |= _read_off(scanned, reading)
    if not any(page.lines or page.tables for page in pages):
        if scanned:
            raise DocumentError(f"{identity}: scanned, and no words could be read on its {len(pages)} pages")
        raise DocumentError(f"{identity}: holds no text")
    _drop_repeated(pages)
    _drop_small_and_repeated_pictures(pages)
    levels = _Levels([line for page in pages for line in page.lines])
    builder = DocumentBuilder()
    waiting = ""
    for page in pages:
        parts = list(_parts(page, levels))
        if waiting:
            goes_on = bool(parts) and parts[0][0] == PARAGRAPH and parts[0][1][:1].islower()
            if goes_on:
                waiting = _join([waiting, parts.pop(0)[1]])
            builder.add(PARAGRAPH, waiting)
            waiting = ""
        builder.page(page.number)
        if parts and parts[-1][0] == PARAGRAPH and parts[-1][1][-1:] not in '.!?:”"':
            waiting = parts.pop()[1]
        for kind, text, level in parts:
            if kind == PICTURE:
                _add_picture(builder, data, page, page.pictures[level])
            else:
                builder.add(kind, text, level)
    builder.add(PARAGRAPH, waiting)
    found = builder.build(identity)
    has_heading = any(block.kind == HEADING for block in found.blocks)
    return builder.build(identity, None if has_heading else title, metadata)


def _read_off(scanned: Sequence[Page], reading: Reading) -> dict[str, Value]:
    """Put the lines and tables of pages that are pictures on them; what the metadata says of it."""
    read: list[tuple[Page, Sequence[ReadLine]]] = [(page, reading(page.number)) for page in scanned]
    read = [(page, lines) for page, lines in read if lines]
    if not read:
        return {}
    # One for all pages: how high lines come out differs a little from page to page.
    body = median(usual_height(lines) * page.height for page, lines in read) / LINE_SPACE
    for page, lines in read:
        page.lines = []
        for piece in laid_out(lines, page.width / page.height):
            if isinstance(piece, Cells):
                left, top, right, bottom = piece.place
                edges = left * page.width, right * page.width, (1 - top) * page.height, (1 - bottom) * page.height
                page.tables.append(Table(*edges, piece.rows))
                continue
            left, top, right, bottom = piece.line.place
            size = round(piece.size * body * 2) / 2
            page.lines.append(
                Line(piece.line.text, left * page.width, right * page.width, (1 - bottom) * page.height,
                     (1 - top) * page.height, size, False, piece.paragraph)
            )  # fmt: skip
    sure = {page.number: confidence_of(lines) for page, lines in read}
    whole = confidence_of([line for _, lines in read for line in lines])
    return {
        READ_PAGES: [f"{number}: {share:.2f}" for number, share in sure.items()],
        READ_CONFIDENCE: round(whole, 3),
    }


def _pages(data: bytes, identity: str) -> tuple[list[Page], dict[str, Value], str | None]:
    try:
        file = PDFDocument(PDFParser(io.BytesIO(data)))
        resources = PDFResourceManager()
        device = PDFPageAggregator(resources, laparams=LAParams())
        interpreter = PDFPageInterpreter(resources, device)
        pages = []
        for number, page in enumerate(PDFPage.create_pages(file), 1):
            interpreter.process_page(page)
            pages.append(_page(device.get_result(), number))
    except (PDFPasswordIncorrect, PDFEncryptionError) as error:
        raise DocumentError(f"{identity}: encrypted; save it without a password") from error
    except MemoryError:
        raise
    except Exception as error:
        reason = str(error) or type(error).__name__
        raise DocumentError(f"{identity}: a broken PDF ({reason})") from error
    if not pages:
        raise DocumentError(f"{identity}: a broken PDF (no pages)")
    return pages, *_information(file)


def _information(file: PDFDocument) -> tuple[dict[str, Value], str | None]:
    found: dict[str, Any] = {}
    for part in file.info:
        found |= {key: decode_text(value) for key, value in part.items() if isinstance(value, bytes)}
    day = _DATE.match(found.get("CreationDate", ""))
    keywords = [word.strip() for word in found.get("Keywords", "").replace(";", ",").split(",") if word.strip()]
    known = {
        "subject": found.get("Subject"),
        "keywords": keywords,
        "created": "-".join(day.groups()) if day else None,
    }
    return typed(known), (found.get("Title") or "").strip() or None


def _page(layout: LTPage, number: int) -> Page:
    page = Page(number, layout.width, layout.height)
    rules = Rules()
    chars: list[LTChar] = []
    box = 0
    for element in _elements(layout):
        if isinstance(element, LTImage):
            held = element.stream.get_rawdata() or b""
            page.pictures.append(Shown(element.x0, element.x1, element.y0, element.y1, element.stream.objid, held))
        elif isinstance(element, LTCurve):
            rules.add(element.bbox)
        elif isinstance(element, LTTextBox):
            box += 1
            for line in element:
                if isinstance(line, LTTextLine):
                    chars += [char for char in line if isinstance(char, LTChar)]
                    found = _line(line, box)
                    if found:
                        page.lines.append(found)
    page.tables = tables(rules, chars)
    for table in page.tables:
        page.lines = [line for line in page.lines if not table.holds(line.x0, line.x1, (line.y0 + line.y1) / 2)]
    return page


def _elements(container: LTContainer) -> Iterator[Any]:
    for element in container:
        if isinstance(element, LTFigure):
            yield from _elements(element)
        else:
            yield element


def _line(line: LTTextLine, box: int) -> Line | None:
    chars = [char for char in line if isinstance(char, LTChar) and not char.get_text().isspace()]
    text = " ".join(line.get_text().translate(LETTERS).split())
    if not chars or not text:
        return None
    sizes = Counter(round(char.size * 2) / 2 for char in chars)
    bold = sum("bold" in char.fontname.lower() or "black" in char.fontname.lower() for char in chars)
    return Line(text, line.x0, line.x1, line.y0, line.y1, sizes.most_common(1)[0][0], 2 * bold > len(chars), box)


def _drop_repeated(pages: Sequence[Page]) -> None:
    """Leave out lines that stand at the same edge of at least a third of the pages, numbers apart."""
    if len(pages) < 2:
        return
    seen: Counter[tuple[str, int]] = Counter()
    for page in pages:
        seen.update({_edge_key(line, page) for line in page.lines if _at_edge(line, page)})
    wanted = max(2, -(-len(pages) // 3))
    for page in pages:
        page.lines = [
            line for line in page.lines if not (_at_edge(line, page) and seen[_edge_key(line, page)] >= wanted)
        ]


def _drop_small_and_repeated_pictures(pages: Sequence[Page]) -> None:
    """Leave out lines and bullets, and what is the same on most pages."""
    on = Counter(shown.image for page in pages for shown in dict.fromkeys(page.pictures))
    for page in pages:
        least = LEAST_SHARE * page.width * page.height
        page.pictures = [
            shown
            for shown in dict.fromkeys(page.pictures)
            if (shown.x1 - shown.x0) * (shown.y1 - shown.y0) >= least
            and min(shown.x1 - shown.x0, shown.y1 - shown.y0) >= LEAST_POINTS
            and not (on[shown.image] >= REPEATED and 2 * on[shown.image] > len(pages))
        ]


def _add_picture(builder: DocumentBuilder, data: bytes, page: Page, shown: Shown) -> None:
    """A picture as it is seen on its page, which is drawn when it is looked at."""
    left, right = max(shown.x0, 0.0), min(shown.x1, page.width)
    low, high = max(shown.y0, 0.0), min(shown.y1, page.height)
    if right - left < 1 or high - low < 1:
        return
    scale = min(SHARPNESS, LONGEST_SIDE / max(right - left, high - low))
    size = round((right - left) * scale), round((high - low) * scale)
    place = (left / page.width, 1 - high / page.height, right / page.width, 1 - low / page.height)
    share = tuple(round(one, 4) for one in place)
    alone = Picture(0, 0, "", "", *size, page.number, share)
    builder.picture(*size, lambda: draw_pictures(data, [alone])[0], of=shown.held, page=page.number, place=share)


def draw_pictures(data: bytes, pictures: Sequence[Picture]) -> list[bytes]:
    """Pictures of a PDF file as they are seen on their pages, each page drawn once; empty where one cannot be."""
    import pypdfium2

    file = pypdfium2.PdfDocument(data)
    found = [b""] * len(pictures)
    # A page may have many, and be drawn larger for the small ones among them.
    order = sorted(range(len(pictures)), key=lambda place: (pictures[place].page, pictures[place].width))
    seen: tuple[int, float, Any] = (0, 0.0, None)
    for place in order:
        one = pictures[place]
        left, top, right, bottom = one.place
        page = file[one.page - 1]
        scale = one.width / max((right - left) * page.get_width(), 1.0)
        if seen[0] != one.page or abs(seen[1] - scale) > 0.01 * scale:
            seen = one.page, scale, page.render(scale=scale, may_draw_forms=False).to_pil()
        wide, high = seen[2].size
        part = seen[2].crop((round(left * wide), round(top * high), round(right * wide), round(bottom * high)))
        found[place] = packed(part, (one.width, one.height))
    return found


def opened_page(data: bytes, identity: str, number: int) -> Any:
    """A page of a file, to be drawn or its text to be looked at; pages count from 1.

    Raises
    ------
    DocumentError
        If the file is broken or has no such page.
    """
    import pypdfium2

    try:
        file = pypdfium2.PdfDocument(data)
    except pypdfium2.PdfiumError as error:
        raise DocumentError(f"{identity}: a broken PDF ({error})") from error
    if not 1 <= number <= len(file):
        raise DocumentError(f"{identity}: page {number} is not between 1 and {len(file)}")
    return file[number - 1]


def draw_page(data: bytes, identity: str, number: int, width: int) -> Image.Image:
    """A page as it is seen, `width` pixels wide; pages count from 1.

    Raises
    ------
    DocumentError
        If the file is broken or has no such page.
    """
    shown = opened_page(data, identity, number)
    # A page that is very long is drawn less wide.
    scale = min(width / max(shown.get_width(), 1.0), LONGEST_PAGE / max(shown.get_height(), 1.0))
    drawn: Image.Image = shown.render(scale=scale, may_draw_forms=False).to_pil()
    return drawn


def _at_edge(line: Line, page: Page) -> bool:
    return line.y1 > (1 - EDGE) * page.height or line.y0 < EDGE * page.height


def _edge_key(line: Line, page: Page) -> tuple[str, int]:
    return regex.sub(r"\d+|\b[ivxl]+\b", "#", line.text.lower()), round(line.y0 / page.height * 100)


class _Levels:
    """Which lines are headings, and of which level.

    The text of a document is set in the size that most of its letters have. A heading is larger, or bold and
    numbered, or bold and alone. Numbers give its level, and where there are none its size does.
    """

    def __init__(self, lines: Sequence[Line]) -> None:
        letters: Counter[float] = Counter()
        for line in lines:
            letters[line.size] += len(line.text)
        self.body = letters.most_common(1)[0][0] if letters else 0.0
        looks = {(line.size, line.bold) for line in lines if self._stands_out(line)}
        self._ranks = {look: rank for rank, look in enumerate(sorted(looks, reverse=True), 1)}
        depths: dict[tuple[float, bool], Counter[int]] = {}
        for line in lines:
            match = _NUMBERED.match(line.text)
            if self._stands_out(line) and match:
                depths.setdefault((line.size, line.bold), Counter())[str(match[1]).count(".") + 1] += 1
        self._depth_of = {look: counts.most_common(1)[0][0] for look, counts in depths.items()}
        first = [look for look, depth in self._depth_of.items() if depth == 1]
        above = [look for look in looks if look not in self._depth_of and first and look > max(first)]
        self._shift = 1 if above else 0

    def of(self, line: Line) -> int:
        """Level of a heading, from 1; 0 for a line that is none."""
        if not self._stands_out(line) or len(line.text) > HEADING_MAX:
            return 0
        match = _NUMBERED.match(line.text)
        if match:
            return min(str(match[1]).count(".") + 1 + self._shift, 9)
        look = (line.size, line.bold)
        if look in self._depth_of:
            return self._depth_of[look] + self._shift
        return min(self._ranks[look], 9)

    def _stands_out(self, line: Line) -> bool:
        if not any(sign.isalpha() for sign in line.text):
            return False
        if line.size >= LARGER * self.body:
            return True
        return (
            line.bold
            and line.size >= self.body
            and not line.text.endswith((".", ",", ";", ":"))
            and (bool(_NUMBERED.match(line.text)) or len(line.text) < 80)
        )


def _parts(page: Page, levels: _Levels) -> Iterator[tuple[str, str, int]]:
    """Kind, text and level of the blocks of a page; the level of a picture is its place among those of the page."""
    placed: list[Table | Shown] = sorted([*page.tables, *page.pictures], key=lambda one: -one.top)
    group: list[Line] = []
    group_level = 0
    alone = _alone(page.lines)

    def flush() -> Iterator[tuple[str, str, int]]:
        if group:
            text = _join([line.text for line in group])
            if group_level:
                yield HEADING, text, group_level
            elif CAPTION_LINE.match(text):
                yield CAPTION, text, 0
            elif _ITEM.match(text):
                yield ITEM, _BULLET.sub("- ", text), 1
            else:
                yield PARAGRAPH, text, 0
            group.clear()

    for line in page.lines:
        while placed and placed[0].top >= line.y1 - 1 and line.x0 < placed[0].x1 and line.x1 > placed[0].x0:
            yield from flush()
            yield from _set(placed.pop(0), page)
        level = levels.of(line)
        if not level and group and group_level and _goes_on(group[-1], line):
            level = group_level
        if level and line.bold and line.size < LARGER * levels.body and id(line) not in alone:
            level = 0
        if group and (level != group_level or _apart(group[-1], line) or (not level and _ITEM.match(line.text))):
            yield from flush()
        group.append(line)
        group_level = level
    yield from flush()
    for one in placed:
        yield from _set(one, page)


def _set(one: Table | Shown, page: Page) -> Iterator[tuple[str, str, int]]:
    """The blocks of what does not flow with the lines."""
    if isinstance(one, Shown):
        yield PICTURE, "", page.pictures.index(one)
    else:
        yield from _rows(one)


def _goes_on(heading: Line, line: Line) -> bool:
    """Whether a line is the rest of a heading that was too long for one."""
    return heading.box == line.box and heading.size == line.size and heading.bold == line.bold


def _alone(lines: Sequence[Line]) -> set[int]:
    """Lines that are no part of a paragraph set in bold: the line before or after differs in look or in box."""
    found = set()
    for place, line in enumerate(lines):
        around = [other for other in (lines[place - 1] if place else None, *lines[place + 1 : place + 2]) if other]
        same = [other for other in around if other.box == line.box and other.size == line.size and other.bold]
        if len(same) < 2:
            found.add(id(line))
    return found


def _apart(before: Line, line: Line) -> bool:
    """Whether a line begins a new paragraph after the one before it."""
    if abs(before.size - line.size) > 0.6:
        return True
    gap = before.y0 - line.y1
    if before.box == line.box:
        return gap > 0.75 * line.size or (
            before.text.endswith((".", ":", "!", "?")) and line.x0 > before.x0 + line.size
        )
    ended = before.text.endswith((".", ":", "!", "?", ";"))
    return ended or gap > 0.9 * line.size or gap < -2 * line.size or not line.text[:1].islower()


def _rows(table: Table) -> Iterator[tuple[str, str, int]]:
    header = table.rows[0] if len(table.rows) > 1 else []
    for row in table.rows[1:] or table.rows:
        yield ROW, row_text(header, row), 0


def _join(lines: Sequence[str]) -> str:
    """Lines of a paragraph as one; a word hyphenated at a line's end is joined."""
    text = ""
    for line in lines:
        if text.endswith("-") and text[-2:-1].isalpha() and line[:1].islower():
            text = text[:-1] + line
        else:
            text = f"{text} {line}" if text else line
    return text
