"""Sheets of a corpus as a question sees them: scored by their patches, and told as the chunks that stand on them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.many.coding import TokenCodes
from doppio.core.branches.many.index import Asked, Held, ManyIndex
from doppio.core.branches.many.making import bare
from doppio.core.branches.patch.making import Patches
from doppio.core.fusion.pouring import Ranking
from doppio.core.kernels.rows import named
from doppio.core.models.sight import Laid
from doppio.core.models.token_vectors import inverse_frequency
from doppio.core.ranking import best_of

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Part:
    """A segment: its sheets, their codes, and which number each of its chunks has, -1 where it is gone; empty where
    it is its place."""

    patches: Patches
    codes: TokenCodes
    now: NDArray[np.int64]


@dataclass(frozen=True)
class SheetPatches:
    """The patches of one sheet.

    digest : of the sheet
    vectors : (p, d) float32, of unit length
    cells : (p,) int64, which cell of the grid each is
    """

    digest: str
    vectors: Floats
    cells: NDArray[np.int64]
    laid: Laid


class PatchIndex:
    """Segments that are searched as one.

    Notes
    -----
    A sheet scores the weighted mean over the question's vectors of the best cosine with one of its patches. A chunk
    scores as the best sheet that it stands on does; chunks of one sheet stand in the order of the document.
    """

    def __init__(self, segments: Sequence[Part]) -> None:
        self._segments = list(segments)
        chunks, sheets, held, first = [], [], [], 0
        frequency = np.zeros(0, np.int64)
        for part in self._segments:
            own = part.patches
            rows, places = own.carried.T
            numbers = part.now[rows] if part.now.size else rows
            alive = np.zeros(len(own), bool)
            alive[places[numbers >= 0]] = True
            # All sheets have numbers of their own, those that are gone too.
            now = np.where(alive, first + np.arange(len(own)), -1)
            held.append(Held(bare(own.spans, own.codes, own.scales, now), part.codes))
            chunks.append(numbers[numbers >= 0])
            sheets.append(places[numbers >= 0] + first)
            counted = _counted(own, alive)
            longer = max(len(frequency), len(counted))
            frequency = np.pad(frequency, (0, longer - len(frequency))) + np.pad(counted, (0, longer - len(counted)))
            first += len(own)
        self._many, self._frequency = ManyIndex(held), frequency
        none = np.empty(0, np.int64)
        on, of = np.concatenate([none, *sheets]), np.concatenate([none, *chunks])
        order = np.lexsort((of, on))
        # Rows of a chunk and a sheet that it stands on, by sheet, and where each sheet's begin.
        self._chunks, self._sheets = of[order], on[order]
        self._begins = np.searchsorted(self._sheets, np.arange(first + 1))

    @property
    def sheets(self) -> int:
        return self._many.count

    @property
    def patches(self) -> int:
        return self._many.vectors

    @property
    def full_bytes(self) -> int:
        return self._many.full_bytes

    @property
    def code_bytes(self) -> int:
        return self._many.code_bytes

    def weights(self, ids: NDArray[np.int64] | None, count: int) -> Floats:
        """What each of a question's tokens weighs: (count,) float32, which add up to 1.

        Notes
        -----
        A token weighs its inverse document frequency ln(1 + (N - n + 0.5) / (n + 0.5)) over the sheets that it stands
        on; all weigh the same where it is not known what stands on sheets.
        """
        if ids is None or not self._frequency.any():
            return np.full(count, 1 / max(count, 1), np.float32)
        known = ids < len(self._frequency)
        held = np.where(known, self._frequency[np.where(known, ids, 0)], 0)
        found = inverse_frequency(held, self.sheets)
        return (found / max(float(found.sum()), 1e-9)).astype(np.float32)

    def search(
        self, asked: Asked, depth: int, settings: Mapping[str, Any] | None, allowed: NDArray[np.bool_] | None = None
    ) -> Ranking:
        """Rank chunks; parameters are those of `ManyIndex.search`."""
        if depth <= 0:
            return np.empty(0, np.int64), np.empty(0, np.float32)
        wanted = None
        if allowed is not None:
            wanted = np.zeros(len(self._begins) - 1, bool)
            wanted[self._sheets[named(allowed, self._chunks)]] = True
        found, scores = self._many.search(asked, depth, settings, wanted)
        chunks = [self._chunks[self._begins[sheet] : self._begins[sheet + 1]] for sheet in found.tolist()]
        counts = [len(own) for own in chunks]
        rows, of = np.concatenate([np.empty(0, np.int64), *chunks]), np.repeat(scores, counts)
        if allowed is not None:
            there = named(allowed, rows)
            rows, of = rows[there], of[there]
        # The first of a chunk is its best: sheets come best first.
        _, first = np.unique(rows, return_index=True)
        return best_of([(rows[first], of[first])], depth)

    def of(self, chunk: int) -> list[SheetPatches]:
        """The sheets that a chunk stands on."""
        found = []
        for part in self._segments:
            own = part.patches
            numbers = part.now[own.carried[:, 0]] if part.now.size else own.carried[:, 0]
            for sheet in own.carried[numbers == chunk, 1].tolist():
                begin, count = own.spans[sheet].tolist()
                span = slice(begin, begin + count)
                vectors = own.codes[span] * own.scales[span, None]
                digest = own.digests[sheet].tobytes().decode()
                found.append(SheetPatches(digest, vectors, own.cells[span].astype(np.int64), own.laid(sheet)))
        return found


def _counted(own: Patches, alive: NDArray[np.bool_]) -> NDArray[np.int64]:
    """On how many of the living sheets each token stands."""
    owner = np.repeat(np.arange(len(own)), own.held_spans[:, 1])
    return np.bincount(own.held[alive[owner]]) if len(owner) else np.zeros(0, np.int64)
