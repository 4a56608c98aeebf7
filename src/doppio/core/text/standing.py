"""Which range of a document's text stands at a line of its page?

What is seen on a page is not word for word what was read of it: words hyphenated at a line's end were joined, rows of
tables carry the names of their columns, what repeats at the edges of pages was left out. So a line is looked for as
it is, then without a broken word at its end, and at last as cells of the row that holds most of their words.
"""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from doppio.core.text.document import ROW, Block
from doppio.core.text.pictures import Line
from doppio.core.text.quotes import Folded
from doppio.core.text.units import folded_words

# Share of the words of cells that a row has to hold to be theirs.
LEAST_HELD = 0.6
# Share of the height of a line by which two that stand beside each other may be shifted.
SAME_ROW = 0.5


@dataclass(frozen=True)
class Standing:
    """A line of a page and where it stands in the text.

    start, end : a range of the document; all of a row of a table where `whole`
    """

    line: Line
    start: int
    end: int
    whole: bool = False


def standing(lines: Sequence[Line], text: str, blocks: Sequence[Block], low: int, high: int) -> list[Standing]:
    """Lines of a page that are found in its text, in the order of the page.

    Parameters
    ----------
    text, blocks : of the document
    low, high : the range of its text that stands on the page

    Notes
    -----
    A line that is there more than once is taken for the next one after what was found before it.
    """
    folded = Folded(text[low:high])
    inside = [block for block in blocks if block.kind == ROW and block.start < high and block.end > low]
    held = [Counter(folded_words(text[block.start : block.end])) for block in inside]
    found: dict[int, Standing] = {}
    reached = 0
    for number, line in enumerate(lines):
        places = folded.places(line[0]) or folded.places(_unbroken(line[0]))
        place = next((one for one in places if one[0] >= reached), places[0] if places else None)
        if place is not None:
            found[number] = Standing(line, low + place[0], low + place[1])
            reached = place[1]
    for row in _rows([number for number in range(len(lines)) if number not in found], lines):
        words = Counter(word for number in row for word in folded_words(lines[number][0]) if word)
        block = _best(words, held)
        if block is not None:
            own = inside[block]
            for number in row:
                found[number] = Standing(lines[number], own.start, own.end, whole=True)
    return [found[number] for number in sorted(found)]


def _unbroken(line: str) -> str:
    """A line without the word that goes on in the next one."""
    return line.rsplit(" ", 1)[0] if line.endswith("-") and " " in line else ""


def _rows(numbers: Sequence[int], lines: Sequence[Line]) -> list[list[int]]:
    """Lines that stand beside each other, together."""
    rows: list[list[int]] = []
    for number in sorted(numbers, key=lambda one: _middle(lines[one])):
        high = lines[number][1][3] - lines[number][1][1]
        if rows and abs(_middle(lines[number]) - _middle(lines[rows[-1][0]])) < SAME_ROW * high:
            rows[-1].append(number)
        else:
            rows.append([number])
    return rows


def _middle(line: Line) -> float:
    return (line[1][1] + line[1][3]) / 2


def _best(words: Counter[str], held: Sequence[Counter[str]]) -> int | None:
    """The row that holds the most of some words, and of these the one that holds least else."""
    total = sum(words.values())
    if not total:
        return None
    shares = [sum((words & own).values()) / total for own in held]
    best = max(range(len(held)), key=lambda at: (shares[at], -sum(held[at].values())), default=None)
    return best if best is not None and shares[best] >= LEAST_HELD else None
