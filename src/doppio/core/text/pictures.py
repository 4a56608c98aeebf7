"""A picture in a document: where it stands in its text and on its page; what it shows is drawn from the file."""

from dataclasses import asdict, dataclass
from typing import Any


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

    def to_json(self) -> dict[str, Any]:
        return {**asdict(self), "place": list(self.place)}

    @classmethod
    def from_json(cls, body: dict[str, Any]) -> "Picture":
        return cls(**{**body, "place": tuple(body["place"])})
