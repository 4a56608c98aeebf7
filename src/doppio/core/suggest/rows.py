"""Rows of tables: what a column says of what the first column names."""

from collections.abc import Iterator

from doppio.core.kinds import Setting
from doppio.core.suggest.kind import lowered
from doppio.core.text.document import ROW, Document

EVERY, MOST = 3, 12


class Rows:
    """See the module."""

    name, title, order = "rows", "rows of tables", 4
    help = "what one column of a table says of another"
    settings: tuple[Setting, ...] = ()

    def suggest(self, document: Document) -> Iterator[tuple[str, int, int]]:
        rows = [block for block in document.blocks if block.kind == ROW]
        # Neighbouring rows are alike: some are taken, and each is asked for another column.
        for turn, block in enumerate(rows[:: max(EVERY, len(rows) // MOST)]):
            cells = [cell.partition(": ") for cell in document.text[block.start : block.end].split("; ")]
            named = [(name, value) for name, colon, value in cells if colon and value]
            if len(named) < 2:
                continue
            key, value = named[0]
            column = named[1 + turn % (len(named) - 1)][0]
            yield f"What is the {lowered(column)} of {lowered(key)} {value}", block.start, block.end


KIND = Rows()
