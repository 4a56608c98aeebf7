"""Bounds of terms over ranges of chunks, kept for those that were asked last."""

from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager
from threading import Lock
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.sparse.ranges import COARSE, INSIDE, TERMS_IN_RANGES

K = TypeVar("K", bound=Hashable)
# Writes the bounds of a term into its fine and its coarse row, which are 0; returns what a step of them is.
Make = Callable[[K, NDArray[np.uint8], NDArray[np.uint8]], float]
# Terms whose bounds stay at hand under a setting, 17 bytes for 128 chunks each, and the bytes of all of them.
ROWS_KEPT, BYTES_KEPT = 1024, 1 << 28


class Tops:
    """The most that terms of weight 1 add in each range of a segment, made when a term is first asked.

    fine, coarse : (rows, ranges) uint8, in 255ths of the term's largest share, rounded up
    steps : (rows,) float64, what one of the 255 is
    """

    def __init__(self, chunks: int) -> None:
        coarse = (chunks + (1 << COARSE) - 1) >> COARSE
        rows = min(ROWS_KEPT, max(TERMS_IN_RANGES, BYTES_KEPT // (coarse * (INSIDE + 1))))
        # Pages of zeros take no memory before something is written to them.
        self.fine = np.zeros((rows, coarse * INSIDE), np.uint8)
        self.coarse = np.zeros((rows, coarse), np.uint8)
        self.steps = np.zeros(rows)
        self._row_of: OrderedDict[Hashable, int] = OrderedDict()
        self._unused = list(reversed(range(rows)))
        # Searches that read each row now.
        self._readers = [0] * rows
        self._lock, self._making = Lock(), Lock()

    @contextmanager
    def read(self, terms: Sequence[K], make: Make[K]) -> Iterator[list[int] | None]:
        """The rows of some terms, by whatever they are known; those that are not there yet are made.

        They are theirs until the block ends; then the terms that were not asked for the longest time make room. None
        where others read so many rows that there is no room.
        """
        rows: list[int] = []
        try:
            for term in terms:
                row = self._known(term)
                row = self._made(term, make) if row is None else row
                if row is None:
                    break
                rows.append(row)
            yield rows if len(rows) == len(terms) else None
        finally:
            with self._lock:
                for row in rows:
                    self._readers[row] -= 1

    def _known(self, term: Hashable) -> int | None:
        with self._lock:
            row = self._row_of.get(term)
            if row is not None:
                self._row_of.move_to_end(term)
                self._readers[row] += 1
            return row

    def _made(self, term: K, make: Make[K]) -> int | None:
        # Whoever asks for rows that are there does not wait for this.
        with self._making:
            if (row := self._known(term)) is not None:
                return row
            if (row := self._room()) is None:
                return None
            try:
                self.steps[row] = make(term, self.fine[row], self.coarse[row])
            except BaseException:
                self.fine[row] = self.coarse[row] = 0
                self._unused.append(row)
                raise
            with self._lock:
                self._row_of[term] = row
                self._readers[row] += 1
            return row

    def _room(self) -> int | None:
        """An empty row."""
        if self._unused:
            return self._unused.pop()
        with self._lock:
            found = next((term for term, row in self._row_of.items() if not self._readers[row]), None)
            if found is None:
                return None
            row = self._row_of.pop(found)
        self.fine[row] = self.coarse[row] = 0
        return row
