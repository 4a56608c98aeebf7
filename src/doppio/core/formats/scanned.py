"""What was read off a page, as lines and tables: columns of prose one after another, tables row by row."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from statistics import median

from doppio.core.formats.optical import ReadLine

# All lengths are in heights of a usual line. A gap that parts cells of a table, or columns of prose.
GAP = 1.0
# Columns of prose fill so much of their width, line for line; cells of tables hardly ever do.
FILLED = 0.75
# Rows of a table at least, its heads among them.
LEAST_ROWS = 3
# Lines within so much of the usual height are of the usual size: it varies with the letters of a line.
SAME_SIZE = 0.25
PARAGRAPH_GAP = 0.8


@dataclass(frozen=True)
class Cells:
    """A table: its rows, which all have as many cells, and where it stands, as shares of the page."""

    rows: list[list[str]]
    place: tuple[float, float, float, float]


@dataclass(frozen=True)
class Prose:
    """A line, the number of the paragraph that it is of, and its size in heights of a usual line."""

    line: ReadLine
    paragraph: int
    size: float


Row = list[ReadLine]


def laid_out(lines: Sequence[ReadLine], shape: float) -> list[Prose | Cells]:
    """Lines and tables in reading order.

    Parameters
    ----------
    lines : from the top, those of a row from the left, as `read_lines` gives them
    shape : float
        The width of the page over its height.
    """
    return _Layout(lines, shape).found() if lines else []


def usual_height(lines: Sequence[ReadLine]) -> float:
    """The height of most lines, as a share of the page's."""
    return median(_high(line) for line in lines)


class _Layout:
    def __init__(self, lines: Sequence[ReadLine], shape: float) -> None:
        self.usual = usual_height(lines)
        # One height of a line as a share of the width.
        self.across = self.usual / shape
        self.rows = self._rows(lines)

    def _rows(self, lines: Sequence[ReadLine]) -> list[Row]:
        rows: list[Row] = []
        for line in lines:
            if rows and line.place[0] > rows[-1][-1].place[0] and _level(line, rows[-1][-1]):
                rows[-1].append(line)
            else:
                rows.append([line])
        return [self._joined(row) for row in rows]

    def _joined(self, row: Row) -> Row:
        """A row whose parts that are no more than a space apart are one."""
        found = row[:1]
        for line in row[1:]:
            last = found[-1]
            if line.place[0] - last.place[2] < GAP * self.across:
                place = (
                    min(last.place[0], line.place[0]), min(last.place[1], line.place[1]),
                    max(last.place[2], line.place[2]), max(last.place[3], line.place[3]),
                )  # fmt: skip
                sure = min(last.confidence, line.confidence)
                found[-1] = ReadLine(f"{last.text} {line.text}", sure, place)
            else:
                found.append(line)
        return found

    def found(self) -> list[Prose | Cells]:
        found: list[Prose | Cells] = []
        paragraph, before = 0, None
        for group in self._groups():
            if isinstance(group, Cells):
                found.append(group)
                before = None
                continue
            for line in group:
                # The next column begins above.
                gap = None if before is None else line.place[1] - before.place[3]
                if gap is None or gap > PARAGRAPH_GAP * self.usual or gap < -self.usual:
                    paragraph += 1
                size = _high(line) / self.usual
                found.append(Prose(line, paragraph, 1.0 if abs(size - 1.0) <= SAME_SIZE else round(size, 1)))
                before = line
        return found

    def _groups(self) -> Iterator[Row | Cells]:
        at = 0
        while at < len(self.rows):
            end = at
            while end < len(self.rows) and len(self.rows[end]) > 1:
                end += 1
            if end == at:
                yield self.rows[at]
                at += 1
                continue
            block = self.rows[at:end]
            at = end
            columns = self._columns(block)
            if self._is_prose(block, columns):
                for column in range(len(columns)):
                    yield [line for row in block for line in row if _column(line, columns) == column]
            elif len(block) >= LEAST_ROWS:
                yield _table(block, columns)
            else:
                yield from block

    def _columns(self, block: Sequence[Row]) -> list[tuple[float, float]]:
        """From where to where each column of some rows reaches: what overlaps is one."""
        spans: list[tuple[float, float]] = []
        for left, right in sorted((line.place[0], line.place[2]) for row in block for line in row):
            if spans and left < spans[-1][1]:
                spans[-1] = spans[-1][0], max(spans[-1][1], right)
            else:
                spans.append((left, right))
        return spans

    def _is_prose(self, block: Sequence[Row], columns: Sequence[tuple[float, float]]) -> bool:
        if len(columns) < 2:
            return True
        for number, (left, right) in enumerate(columns):
            own = [line for row in block for line in row if _column(line, columns) == number]
            if median(line.place[2] - line.place[0] for line in own) < FILLED * (right - left):
                return False
        # A column of short codes is as full as one of prose, and narrow.
        return min(right - left for left, right in columns) > 12 * self.across


def _high(line: ReadLine) -> float:
    return line.place[3] - line.place[1]


def _level(line: ReadLine, other: ReadLine) -> bool:
    """Whether two lines share more than half of the height of the lower one."""
    shared = min(line.place[3], other.place[3]) - max(line.place[1], other.place[1])
    return shared > 0.5 * min(_high(line), _high(other))


def _column(line: ReadLine, columns: Sequence[tuple[float, float]]) -> int:
    return next(place for place, (left, right) in enumerate(columns) if left <= line.place[0] <= right)


def _table(block: Sequence[Row], columns: Sequence[tuple[float, float]]) -> Cells:
    rows = []
    for row in block:
        cells = [""] * len(columns)
        for line in row:
            place = _column(line, columns)
            cells[place] = f"{cells[place]} {line.text}".strip()
        rows.append(cells)
    lines = [line.place for row in block for line in row]
    sides = list(zip(*lines, strict=True))
    return Cells(rows, (min(sides[0]), min(sides[1]), max(sides[2]), max(sides[3])))
