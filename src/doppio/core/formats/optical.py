"""Words read off a picture of a page: lines with where they stand and how sure the reader is of them.

The reader and its models come in a package and run on ONNX Runtime; nothing is fetched. It reads print, also skewed
or noisy, and takes about eight seconds for a full page on one core.
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from PIL import Image

from doppio.core.cores import cores
from doppio.core.text.pictures import Line

# Larger than this a picture is made smaller before it is read, in pixels of the longer side: print of nine points on
# a sheet of letter size was read as well at 1,100 as at 1,760.
READ_SIDE = 1280
# What is read with less than this is more often dirt than a word.
LEAST_CONFIDENCE = 0.5
# What the metadata of a document says of it.
READ_PAGES, READ_CONFIDENCE = "pages read off, and how surely", "reading confidence"
# Of the kept readings of pages; it goes up when others would be read.
EDITION = 1


@dataclass(frozen=True)
class ReadLine:
    """A line that was read.

    confidence : the mean over its signs, 0 to 1
    place : left, top, right and bottom as shares of the picture
    """

    text: str
    confidence: float
    place: tuple[float, float, float, float]

    @property
    def placed(self) -> Line:
        """Its words and where they stand, however sure they are."""
        return self.text, self.place

    def to_json(self) -> list[Any]:
        return [self.text, self.confidence, list(self.place)]

    @classmethod
    def from_json(cls, body: Sequence[Any]) -> "ReadLine":
        left, top, right, bottom = body[2]
        return cls(body[0], body[1], (left, top, right, bottom))


# Lines of pages that were read, by the number of the page; a picture is page 1.
Readings = Mapping[int, Sequence[ReadLine]]
# Reads a page by its number.
Reading = Callable[[int], Sequence[ReadLine]]


class Unread(Exception):
    """Pages that are pictures, whose words are not known."""

    def __init__(self, pages: Sequence[int]) -> None:
        super().__init__(f"{len(pages)} pages are pictures")
        self.pages = list(pages)


def confidence_of(lines: Sequence[ReadLine]) -> float:
    """The mean confidence of signs: lines count by their length."""
    signs = [len(line.text) for line in lines]
    total = sum(signs)
    return sum(line.confidence * own for line, own in zip(lines, signs, strict=True)) / total if total else 0.0


def read_lines(picture: Image.Image) -> list[ReadLine]:
    """The lines of a picture, from the top, those of one height from the left."""
    shown = picture.convert("RGB")
    shown.thumbnail((READ_SIDE, READ_SIDE))
    wide, high = shown.size
    # The models are fed blue first.
    found = _reader()(np.ascontiguousarray(np.asarray(shown)[:, :, ::-1]))
    if found.boxes is None or found.txts is None:
        return []
    lines = []
    for corners, text, sure in zip(found.boxes, found.txts, found.scores, strict=True):
        text = " ".join(str(text).split())
        if any(sign.isalnum() for sign in text) and sure >= LEAST_CONFIDENCE:
            (left, top), (right, bottom) = corners.min(axis=0).tolist(), corners.max(axis=0).tolist()
            place = (
                max(left / wide, 0.0), max(top / high, 0.0), min(right / wide, 1.0), min(bottom / high, 1.0)
            )  # fmt: skip
            lines.append(ReadLine(text, round(float(sure), 3), tuple(round(share, 4) for share in place)))  # type: ignore[arg-type]
    return _straight(lines)


def _straight(lines: Sequence[ReadLine]) -> list[ReadLine]:
    """Lines in rows: those whose middles are within half of their height of one another are of one row."""
    rows: list[list[ReadLine]] = []
    for line in sorted(lines, key=_middle):
        if rows and _middle(line) - _middle(rows[-1][0]) < 0.5 * min(_height(line), _height(rows[-1][0])):
            rows[-1].append(line)
        else:
            rows.append([line])
    return [line for row in rows for line in sorted(row, key=lambda one: one.place[0])]


def _middle(line: ReadLine) -> float:
    return (line.place[1] + line.place[3]) / 2


def _height(line: ReadLine) -> float:
    return line.place[3] - line.place[1]


@cache
def _reader() -> Any:
    """The reader, whose models are loaded when the first page is read."""
    from rapidocr import RapidOCR

    threads = {"intra_op_num_threads": cores(), "inter_op_num_threads": 1}
    told: dict[str, Any] = {f"EngineConfig.onnxruntime.{name}": value for name, value in threads.items()}
    # As large as it is given, so that no small picture is blown up first: half the time, and the same words read.
    told |= {"Det.limit_type": "max", "Det.limit_side_len": READ_SIDE}
    return RapidOCR(params={**told, "Global.log_level": "critical"})
