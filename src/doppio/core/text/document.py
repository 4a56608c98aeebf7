"""A document: its canonical text, and its blocks and sections as ranges of that text."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from doppio.core.fingerprint import bytes_digest, fingerprint, text_digest
from doppio.core.text.abbreviations import Habits, habits
from doppio.core.text.canonical import canonical
from doppio.core.text.given import Moves
from doppio.core.text.outline import Section, sections_of
from doppio.core.text.pictures import Paged, Picture

HEADING, PARAGRAPH, ITEM, ROW, CODE, CAPTION, PICTURE, PAGE = (
    "heading", "paragraph", "item", "row", "code", "caption", "picture", "page",
)  # fmt: skip
_CLOSE = {ITEM, ROW}
# What the metadata says of pictures that were refused, of so many at most.
LEFT_OUT, MOST_TOLD = "pictures left out", 20


@dataclass(frozen=True)
class Block:
    """A range of a document that is one heading, paragraph, list item, table row, piece of code, caption, or what is
    said in place of a picture.

    A block of kind `PAGE` is empty: a page begins there, and its level is the number of the page.
    """

    kind: str
    start: int
    end: int
    level: int = 0


@dataclass(frozen=True)
class Document:
    """Offsets count Unicode code points of `text`, which is in canonical form.

    `carried` holds fields of the source that are not matched and are handed on with every passage. `given` says how
    offsets on the text as it was given move to `text`, where a format carries text as it is. `whole` is the document
    that this one is a part of. `drawn` draws each of the pictures, and `paged` shows the pages of a file that has
    some, where the document was just read.
    """

    id: str
    title: str
    text: str
    blocks: tuple[Block, ...] = ()
    sections: tuple[Section, ...] = ()
    metadata: Mapping[str, Any] = field(default_factory=dict)
    carried: Mapping[str, str] = field(default_factory=dict)
    given: Moves = ()
    pictures: tuple[Picture, ...] = ()

    drawn: tuple[Callable[[], bytes], ...] = field(default=(), compare=False, repr=False)
    paged: Paged | None = field(default=None, compare=False, repr=False)
    whole: "Document | None" = field(default=None, compare=False, repr=False)

    @cached_property
    def habits(self) -> Habits:
        """How the document that this is, or is a part of, uses full stops."""
        return habits((self.whole or self).text)

    def section_path(self, index: int) -> tuple[str, ...]:
        """Titles from the outermost section to this one; empty for index -1."""
        path: list[str] = []
        while index >= 0:
            section = self.sections[index]
            path.append(section.heading)
            index = section.parent
        return tuple(reversed(path))

    @cached_property
    def digest(self) -> str:
        """Digest of what chunks and indexes depend on: title, text, blocks, sections, carried fields, pictures."""
        blocks = [[block.kind, block.start, block.end, block.level] for block in self.blocks]
        sections = [[s.number, s.title, s.level, s.start, s.end, s.parent, s.dropped] for s in self.sections]
        shown = [[picture.digest, *self.anchor(picture)] for picture in self.pictures if picture.digest]
        # Documents without pictures have the digests that they have always had.
        more = [shown] if shown else []
        return fingerprint(self.title, text_digest(self.text), blocks, sections, dict(self.carried), *more)

    def anchor(self, picture: Picture) -> tuple[int, int]:
        """The range of the text that stands for a picture: what is said in its place, or its page where it is all of
        that, or its caption, or the block that follows, or, at the end of the text, the last one."""
        low, high = picture.anchor or anchor(picture, self.text, self.blocks)
        return low, high


def anchor(picture: Picture, text: str, blocks: Sequence[Block]) -> tuple[int, int]:
    """See `Document.anchor`."""
    if picture.end > picture.start:
        return picture.start, picture.end
    if picture.is_page:
        begins = [block.start for block in blocks if block.kind == PAGE and block.level >= picture.page]
        if begins:
            return begins[0], begins[1] if len(begins) > 1 else len(text)
    written = [block for block in blocks if block.end > block.start]
    captions = [
        block
        for block in written
        if block.kind == CAPTION and picture.caption and text[block.start : block.end] == picture.caption
    ]
    if captions:
        nearest = min(captions, key=lambda block: abs(block.start - picture.start))
        return nearest.start, nearest.end
    found = next((block for block in written if block.start >= picture.start), written[-1] if written else None)
    return (found.start, found.end) if found else (0, len(text))


def corpus_fingerprint(documents: Sequence[Document]) -> str:
    """Digest of the ids and contents of all documents, in order."""
    return corpus_key([(document.id, document.digest) for document in documents])


def corpus_key(digests: Sequence[tuple[str, str]]) -> str:
    """The same digest from ids and digests of the documents."""
    return fingerprint([list(pair) for pair in digests])


class DocumentBuilder:
    """Puts blocks one after another and keeps their offsets."""

    def __init__(self) -> None:
        self._parts: list[str] = []
        self._length = 0
        self._blocks: list[Block] = []
        self._last = ""
        self._pictures: list[_Placed] = []
        self._left_out: list[str] = []

    def add(self, kind: str, text: str, level: int = 0) -> None:
        """Append one block; blank text is passed over."""
        text = canonical(text).strip("\n").rstrip()
        if kind != CODE:
            text = text.strip()
        if not text:
            return
        if self._last:
            gap = "\n" if kind in _CLOSE and self._last == kind else "\n\n"
            self._parts.append(gap)
            self._length += len(gap)
        self._parts.append(text)
        self._pages_move()
        self._blocks.append(Block(kind, self._length, self._length + len(text), level))
        self._length += len(text)
        self._last = kind

    def page(self, number: int) -> None:
        """A page begins here."""
        self._blocks.append(Block(PAGE, self._length, self._length, number))

    def picture(
        self,
        width: int,
        height: int,
        draw: Callable[[], bytes],
        *,
        of: bytes,
        alt: str = "",
        page: int = 0,
        place: tuple[float, ...] = (),
    ) -> None:
        """A picture stands here; what is said in its place is a block of the text. `of` is what it is drawn from."""
        before = len(self._blocks)
        self.add(PICTURE, " ".join(alt.split()))
        said = len(self._blocks) > before
        digest = bytes_digest(of, [width, height, page, *place])
        self._pictures.append(_Placed(before, said, width, height, page, place, draw, digest))

    @property
    def pictures_met(self) -> int:
        """Pictures that were put in or left out."""
        return len(self._pictures) + len(self._left_out)

    def left_out(self, reason: str) -> None:
        """A picture is not put in, and the metadata says why."""
        self._left_out.append(reason)

    def _pages_move(self) -> None:
        """Page breaks before a block stand where it begins, after the blank line."""
        for place in range(len(self._blocks) - 1, -1, -1):
            block = self._blocks[place]
            if block.kind != PAGE:
                break
            self._blocks[place] = Block(PAGE, self._length, self._length, block.level)

    def build(
        self,
        identity: str,
        title: str | None = None,
        metadata: Mapping[str, Any] | None = None,
        carried: Mapping[str, str] | None = None,
    ) -> Document:
        """Finish the document; without a title the first heading is taken, and then the id."""
        text = "".join(self._parts)
        headings = (text[block.start : block.end] for block in self._blocks if block.kind == HEADING)
        blocks = tuple(self._blocks)
        return Document(
            id=identity,
            title=" ".join((title or next(headings, "") or identity).split()),
            text=text,
            blocks=blocks,
            sections=sections_of(text, blocks),
            metadata={**(metadata or {}), **({LEFT_OUT: self._left_out[:MOST_TOLD]} if self._left_out else {})},
            carried=dict(carried or {}),
            pictures=tuple(
                replace(placed, anchor=anchor(placed, text, blocks))
                for placed in (self._placed(picture, text, blocks) for picture in self._pictures)
            ),
            drawn=tuple(picture.draw for picture in self._pictures),
        )

    @staticmethod
    def _placed(picture: "_Placed", text: str, blocks: Sequence[Block]) -> Picture:
        """Where a picture stands, and the caption below it, or else above it."""
        after = [block for block in blocks[picture.block :] if block.kind != PAGE]
        before = [block for block in blocks[: picture.block] if block.kind != PAGE]
        own = after.pop(0) if picture.said else None
        start = own.start if own else after[0].start if after else len(text)
        end = own.end if own else start
        beside = [*after[:1], *before[-1:]]
        caption = next((text[block.start : block.end] for block in beside if block.kind == CAPTION), "")
        alt = text[start:end]
        place = picture.place
        return Picture(start, end, alt, caption, picture.width, picture.height, picture.page, place, picture.digest)


@dataclass(frozen=True)
class _Placed:
    """A picture between the blocks of a document that is being built: before which of them, and whether that one is
    what is said in its place."""

    block: int
    said: bool
    width: int
    height: int
    page: int
    place: tuple[float, ...]
    draw: Callable[[], bytes]
    digest: str
