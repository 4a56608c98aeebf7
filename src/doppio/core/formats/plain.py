"""Plain text to a document: paragraphs, list items, and headings where the text shows them."""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

import regex

from doppio.core.formats.captions import CAPTION_LINE
from doppio.core.text.document import CAPTION, HEADING, ITEM, PAGE, PARAGRAPH, Block, Document
from doppio.core.text.given import canonical_with_moves, moved
from doppio.core.text.outline import sections_of

_UNDERLINE = regex.compile(r"^([=\-~*])\1{2,}$")
_NUMBERED = regex.compile(r"^(\d+(?:\.\d+)*)[.)]?\s+\p{Lu}")
_ITEM = regex.compile(r"^(?:[-*•]|\d+[.)]|\(?[a-z]\))\s+")
_LINES = regex.compile(r"[^\n]+|(?<=\n)(?=\n)")
_HEADING_MAX = 80


@dataclass(frozen=True)
class _Line:
    """A line less the white space around it: where it stands, and what it is."""

    start: int
    end: int
    text: str


def read_plain(text: str, identity: str) -> Document:
    """Read plain text, which stays as it was given but for its canonical form.

    Notes
    -----
    A heading is a paragraph of one line that is underlined, in capitals, or numbered like `3.2 Title` and not
    a sentence. Numbers give the level; an underlined line is level 1 (`=`) or 2. A form feed begins a page.
    """
    found, moves = canonical_with_moves(text)
    breaks = [moved(moves, match.start()) for match in regex.finditer("\f", text)]
    blocks: list[Block] = []
    for number, (start, end) in enumerate(pairwise([0, *breaks, len(found)]), 1):
        inside = list(_page(found, start, end))
        if breaks:
            at = inside[0].start if inside else end
            blocks.append(Block(PAGE, at, at, number))
        blocks += inside
    title = next((found[block.start : block.end] for block in blocks if block.kind == HEADING), identity)
    return Document(identity, " ".join(title.split()), found, tuple(blocks), sections_of(found, blocks), given=moves)


def _page(text: str, start: int, end: int) -> Iterator[Block]:
    for lines in _parts(text, start, end):
        while lines:
            level = _heading_level(lines)
            if level:
                underlined = len(lines) > 1 and _UNDERLINE.match(lines[1].text)
                yield Block(HEADING, lines[0].start, lines[0].end, level)
                lines = lines[2:] if underlined else lines[1:]
            else:
                last = _last_line(lines)
                yield Block(_kind(lines[: last + 1]), lines[0].start, lines[last].end)
                lines = lines[last + 1 :]


def _parts(text: str, start: int, end: int) -> Iterator[list[_Line]]:
    """Lines that blank lines stand around."""
    lines: list[_Line] = []
    for match in _LINES.finditer(text, start, end):
        line = match[0].strip()
        if line:
            first = match.start() + len(match[0]) - len(match[0].lstrip())
            lines.append(_Line(first, first + len(line), line))
        elif lines:
            yield lines
            lines = []
    if lines:
        yield lines


def _heading_level(lines: list[_Line]) -> int:
    line = lines[0].text
    if len(line) > _HEADING_MAX or line.endswith((".", ";", ",")):
        return 0
    underline = _UNDERLINE.match(lines[1].text) if len(lines) > 1 else None
    if underline:
        return 1 if underline[1] == "=" else 2
    if len(lines) > 1:
        return 0
    numbered = _NUMBERED.match(line)
    if numbered:
        return str(numbered[1]).count(".") + 2
    letters = [sign for sign in line if sign.isalpha()]
    return 2 if len(letters) >= 3 and all(sign.isupper() for sign in letters) else 0


def _last_line(lines: list[_Line]) -> int:
    """The last line of the block that the first one begins."""
    return next((at for at in range(1, len(lines)) if _ITEM.match(lines[at].text)), len(lines)) - 1


def _kind(lines: list[_Line]) -> str:
    if _ITEM.match(lines[0].text):
        return ITEM
    return CAPTION if CAPTION_LINE.match(" ".join(line.text for line in lines)) else PARAGRAPH
