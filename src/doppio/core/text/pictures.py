"""A picture in a document: where it stands in its text and on its page; what it shows is drawn from the file."""

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

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
    """

    digest: str
    said: str
    draw: Callable[[], bytes]
    read: Callable[[], str]
    is_page: bool = False


def stands_in(anchor: tuple[int, int], start: int, end: int) -> bool:
    """Whether a picture is carried by a range of its document: where that holds any of what stands for it."""
    return anchor[0] < end and max(anchor[1], anchor[0] + 1) > start
