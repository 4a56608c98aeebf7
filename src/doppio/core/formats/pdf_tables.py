"""Ruled tables of a PDF page: cells between drawn lines."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from pdfminer.layout import LTChar

Box = tuple[float, float, float, float]
# Ligatures are drawn as one sign and read as letters; soft hyphens are not read.
LETTERS = {
    0xFB00: "ff",
    0xFB01: "fi",
    0xFB02: "fl",
    0xFB03: "ffi",
    0xFB04: "ffl",
    0xFB05: "st",
    0xFB06: "st",
    0xAD: "",
}
THIN = 3.0
NEAR = 3.0


@dataclass
class Rules:
    """Horizontal and vertical lines that are drawn on a page: (position, from, to)."""

    across: list[tuple[float, float, float]] = field(default_factory=list)
    down: list[tuple[float, float, float]] = field(default_factory=list)

    def add(self, box: Box) -> None:
        """Take the lines of a drawn line or rectangle."""
        x0, y0, x1, y1 = box
        wide, high = x1 - x0, y1 - y0
        if high <= THIN and wide > 8:
            self.across.append(((y0 + y1) / 2, x0, x1))
        elif wide <= THIN and high > 4:
            self.down.append(((x0 + x1) / 2, y0, y1))
        elif wide > 8 and high > 6:
            self.across += [(y0, x0, x1), (y1, x0, x1)]
            self.down += [(x0, y0, y1), (x1, y0, y1)]


@dataclass(frozen=True)
class Table:
    """Texts of the cells, rows from the top, and where the table stands."""

    x0: float
    x1: float
    top: float
    bottom: float
    rows: list[list[str]]

    def holds(self, x0: float, x1: float, y: float) -> bool:
        return self.bottom - 1 <= y <= self.top + 1 and x1 > self.x0 - 1 and x0 < self.x1 + 1


def tables(rules: Rules, chars: Sequence[LTChar]) -> list[Table]:
    """Tables of at least two rows and two columns, from the lines of a page and the letters between them."""
    found = []
    for xs, ys in _grids(rules):
        rows = _cells(xs, ys, chars)
        filled = [row for row in rows if any(row)]
        if len(filled) >= 2 and sum(bool(cell) for row in filled for cell in row) >= 4:
            found.append(Table(xs[0], xs[-1], ys[0], ys[-1], filled))
    return found


def _grids(rules: Rules) -> list[tuple[list[float], list[float]]]:
    """Column edges from the left and row edges from the top of each group of lines that touch."""
    lines = [("across", *line) for line in rules.across] + [("down", *line) for line in rules.down]
    group = list(range(len(lines)))

    def root(place: int) -> int:
        while group[place] != place:
            group[place] = group[group[place]]
            place = group[place]
        return place

    across = [place for place, line in enumerate(lines) if line[0] == "across"]
    down = [place for place, line in enumerate(lines) if line[0] == "down"]
    for a in across:
        _, y, low, high = lines[a]
        for d in down:
            _, x, bottom, top = lines[d]
            if low - NEAR <= x <= high + NEAR and bottom - NEAR <= y <= top + NEAR:
                group[root(d)] = root(a)
    members: dict[int, list[int]] = {}
    for place in range(len(lines)):
        members.setdefault(root(place), []).append(place)
    grids = []
    for places in members.values():
        ys = _merged([lines[place][1] for place in places if lines[place][0] == "across"])
        xs = _merged([lines[place][1] for place in places if lines[place][0] == "down"])
        if len(xs) >= 3 and len(ys) >= 3:
            grids.append((xs, ys[::-1]))
    return grids


def _merged(values: Sequence[float]) -> list[float]:
    found: list[float] = []
    for value in sorted(values):
        if not found or value - found[-1] > NEAR:
            found.append(value)
    return found


def _cells(xs: list[float], ys: list[float], chars: Sequence[LTChar]) -> list[list[str]]:
    cells: list[list[list[LTChar]]] = [[[] for _ in xs[1:]] for _ in ys[1:]]
    for char in chars:
        x, y = (char.x0 + char.x1) / 2, (char.y0 + char.y1) / 2
        column = next((place for place in range(len(xs) - 1) if xs[place] <= x < xs[place + 1]), None)
        row = next((place for place in range(len(ys) - 1) if ys[place] >= y > ys[place + 1]), None)
        if column is not None and row is not None:
            cells[row][column].append(char)
    return [[_text(cell) for cell in row] for row in cells]


def _text(chars: list[LTChar]) -> str:
    """Letters of a cell in reading order: lines from the top, a gap between letters is a space."""
    lines: list[list[LTChar]] = []
    for char in sorted(chars, key=lambda char: -char.y0):
        if lines and abs(lines[-1][0].y0 - char.y0) < 0.5 * char.size:
            lines[-1].append(char)
        else:
            lines.append([char])
    parts = []
    for line in lines:
        text = ""
        end: float | None = None
        for char in sorted(line, key=lambda char: char.x0):
            if end is not None and char.x0 - end > 0.18 * char.size:
                text += " "
            text += char.get_text().translate(LETTERS)
            end = char.x1
        parts.append(text)
    return " ".join(" ".join(parts).split())
