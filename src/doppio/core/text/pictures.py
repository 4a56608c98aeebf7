"""A picture in a document: where it stands in its text and on its page; what it shows is drawn from the file."""

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import asdict, dataclass
from typing import Any, Protocol

from doppio.core.errors import DocumentError

# A picture over so much of its page is taken for the page.
PAGE_SHARE = 0.7


@dataclass(frozen=True)
class Picture:
    """Offsets count code points of the document's text.

    start, end : where its alternative text stands, or, where it has none, twice where the next block begins
    alt : the alternative text; may be empty
    caption : of the caption that stands beside it; may be empty
    width, height : in pixels, as it is drawn
    page : number of the page, 0 where the document has none
    place : left, top, right and bottom as shares of the page; empty where the format does not say it
    digest : of what it is drawn from, and how; empty where readers of before read it
    anchor : the range of the text that stands for it: see `Document.anchor`; empty where readers of before read it
    """

    start: int
    end: int
    alt: str
    caption: str
    width: int
    height: int
    page: int = 0
    place: tuple[float, ...] = ()
    digest: str = ""
    anchor: tuple[int, ...] = ()

    @property
    def is_page(self) -> bool:
        """Whether it is all of its page, whose text is then what can be read on it."""
        if not self.place:
            return False
        left, top, right, bottom = self.place
        return (right - left) * (bottom - top) >= PAGE_SHARE

    @property
    def said(self) -> str:
        """What its document says that it shows: the alternative text and the caption."""
        return "\n".join(dict.fromkeys(part for part in (self.alt, self.caption) if part))

    def to_json(self) -> dict[str, Any]:
        return {**asdict(self), "place": list(self.place), "anchor": list(self.anchor)}

    @classmethod
    def from_json(cls, body: dict[str, Any]) -> "Picture":
        return cls(**{**body, "place": tuple(body["place"]), "anchor": tuple(body.get("anchor", ()))})


@dataclass(frozen=True)
class Shown:
    """A picture as an index reads it.

    digest : another one for every other picture
    said : what its document says that it shows; may be empty
    draw : gives it as PNG or JPEG; raises `DocumentError` where it is broken
    read : gives the words that can be read on it, a line each; raises as `draw` does
    is_page : whether it is all of a page, whose words are those of the text
    number : among the pictures of its document, from 1
    lines : gives these words with where they stand on it; raises as `draw` does
    """

    digest: str
    said: str
    draw: Callable[[], bytes]
    read: Callable[[], str]
    is_page: bool
    number: int
    lines: "Callable[[], Sequence[Line]]"


# Left, top, right and bottom as shares of what it stands on.
Place = tuple[float, float, float, float]
Line = tuple[str, Place]


@dataclass(frozen=True)
class Sheet:
    """A page of a document, or, where a document has no pages to be seen, one of its pictures.

    digest : another one for every other sheet
    page : number of the page, 0 for a picture
    picture : number of the picture from 1, 0 for a page
    draw : gives it as PNG or JPEG; raises `DocumentError` where it is broken
    lines : gives the words that stand on it, a line each, and where; raises as `draw` does
    """

    digest: str
    page: int
    picture: int
    draw: Callable[[], bytes]
    lines: Callable[[], Sequence[Line]]


def as_sheet(picture: Shown) -> Sheet:
    """A picture of a document whose pages cannot be seen."""
    return Sheet(picture.digest, 0, picture.number, picture.draw, picture.lines)


class Paged(Protocol):
    """The pages of a file, to be looked at; pages count from 1."""

    def draw(self, page: int) -> bytes:
        """A page as PNG."""

    def lines(self, page: int) -> Sequence[Line]:
        """The words on a page, a line each."""


def pages_between(begins: Sequence[int], numbers: Sequence[int], start: int, end: int) -> Sequence[int]:
    """Numbers of the pages that hold any of a range of their document.

    Parameters
    ----------
    begins, numbers : where each page begins, rising, and its number
    """
    low = max(bisect_right(begins, start) - 1, 0)
    return numbers[low : max(bisect_left(begins, end), low + 1)]


def whole_pages(begins: Sequence[int], length: int, start: int, end: int) -> tuple[int, int]:
    """The range of the pages that hold any of a range of their document; that range where there are no pages.

    Parameters
    ----------
    begins : where each page begins, rising
    length : of the document
    """
    if not begins:
        return start, end
    first, after = bisect_right(begins, start) - 1, bisect_left(begins, end)
    low, high = begins[first] if first >= 0 else 0, begins[after] if after < len(begins) else length
    return min(low, start), max(high, end)


def figures_on(pictures: Sequence[Picture], page: int) -> list[tuple[int, Picture]]:
    """Those of a document's pictures that stand on a page and are not all of it, with their numbers from 1."""
    return [
        (number, one) for number, one in enumerate(pictures, 1) if one.page == page and one.place and not one.is_page
    ]


def on_page(
    lines: Sequence[Line], figures: Sequence[tuple[Sequence[float], Callable[[], Sequence[Line]]]]
) -> list[Line]:
    """The lines of a page with those that can be read on its pictures, each given by its place and its lines; what
    cannot be read is left out."""
    found = list(lines)
    for (left, top, right, bottom), read in figures:
        with suppress(DocumentError):
            found += [moved(line, (left, top, right, bottom)) for line in read()]
    return found


def moved(line: Line, place: Place) -> Line:
    """A line of a picture as a line of what the picture stands on, at this place."""
    left, top, right, bottom = place
    wide, high, own = right - left, bottom - top, line[1]
    return line[0], (left + own[0] * wide, top + own[1] * high, left + own[2] * wide, top + own[3] * high)


def stands_in(anchor: tuple[int, int], start: int, end: int) -> bool:
    """Whether a picture is carried by a range of its document: where that holds any of what stands for it."""
    return anchor[0] < end and max(anchor[1], anchor[0] + 1) > start
