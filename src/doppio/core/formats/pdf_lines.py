"""Which words stand where on a page of a PDF file? Its own text, a line each, parted where a gap is wide."""

import ctypes
import io
from collections.abc import Sequence

from doppio.core.formats.optical import Reading
from doppio.core.formats.pdf import draw_page, opened_page
from doppio.core.text.pictures import Line

# A gap so many times as wide as the line is high parts columns.
WIDE_GAP = 2.0
# Pages are laid out on so many steps a side, and are drawn so wide, in pixels.
STEPS, SEEN_WIDTH = 10_000, 1000
_ENDS = "\r\n\0\ufffe\x02"

Box = tuple[float, float, float, float]


def page_lines(data: bytes, identity: str, number: int) -> list[Line]:
    """The lines of the text of a page, in the order of the file; pages count from 1.

    Raises
    ------
    DocumentError
        If the file is broken or has no such page.
    """
    import pypdfium2.raw as raw

    page = opened_page(data, identity, number)
    text = page.get_textpage()
    ratio = page.get_width() / max(page.get_height(), 1.0)
    across, down = ctypes.c_int(), ctypes.c_int()

    def at(x: float, y: float) -> tuple[float, float]:
        # As it is seen: turned and cut as the page is.
        raw.FPDF_PageToDevice(page, 0, 0, STEPS, STEPS, 0, x, y, across, down)
        return across.value / STEPS, down.value / STEPS

    def placed(box: Box) -> Box:
        (x0, y0), (x1, y1) = at(box[0], box[1]), at(box[2], box[3])
        return min(x0, x1), min(y0, y1), max(x0, x1), max(y0, y1)

    found: list[Line] = []
    signs: list[str] = []
    boxes: list[Box] = []

    def flush() -> None:
        line = " ".join("".join(signs).split())
        if line and boxes:
            edges = [min(max(edge, 0.0), 1.0) for edge in (
                min(box[0] for box in boxes), min(box[1] for box in boxes),
                max(box[2] for box in boxes), max(box[3] for box in boxes),
            )]  # fmt: skip
            if edges[0] < edges[2] and edges[1] < edges[3]:
                found.append((line, (edges[0], edges[1], edges[2], edges[3])))
        signs.clear()
        boxes.clear()

    for place in range(text.count_chars()):
        sign = chr(raw.FPDFText_GetUnicode(text, place))
        if sign in _ENDS:
            flush()
            continue
        if sign.isspace():
            signs.append(" ")
            continue
        box = placed(text.get_charbox(place))
        if boxes:
            high = max(boxes[-1][3] - boxes[-1][1], box[3] - box[1])
            if (box[0] - boxes[-1][2]) * ratio > WIDE_GAP * high or abs(box[3] - boxes[-1][3]) > high:
                flush()
        signs.append(sign)
        boxes.append(box)
    flush()
    return found


class PdfPages:
    """The pages of a PDF file that is at hand; `reading` gives the lines of those that are pictures."""

    def __init__(self, data: bytes, identity: str, reading: Reading | None = None) -> None:
        self._data, self._identity, self._reading = data, identity, reading

    def draw(self, page: int) -> bytes:
        target = io.BytesIO()
        draw_page(self._data, self._identity, page, SEEN_WIDTH).save(target, "PNG")
        return target.getvalue()

    def lines(self, page: int) -> Sequence[Line]:
        found = page_lines(self._data, self._identity, page)
        if found or self._reading is None:
            return found
        return [line.placed for line in self._reading(page)]
