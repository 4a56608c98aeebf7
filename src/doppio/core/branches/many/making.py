"""Codes of token vectors as a piece of an index."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.making import TOKENS, VECTORS_MAKER, tokens_piece
from doppio.core.branches.many.coding import A_BYTE, NUMBERS, Scale, TokenCodes, encode
from doppio.core.branches.many.index import Held, ManyIndex
from doppio.core.branches.many.lists import CellLists
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.mapping import read_here_and_there
from doppio.core.kinds import Settings
from doppio.core.models.token_vectors import Segment, TokenVectors
from doppio.core.store.artifacts import Artifact, ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.pieces import (
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Maker,
    Merging,
    Needs,
    Opening,
    Piece,
    Planning,
    Source,
)

CODES = "token-codes"
# Bytes of an entry of a cell's list, and of the cell itself, a token.
BESIDE = 3.0
WORKING = 300e6
NO_CODES = "none"
_none = np.empty(0, np.int64)


class CodesMaker:
    """Makes codes of vectors of which passages have many, and which are there by then.

    Parameters
    ----------
    kind, step : of the artifacts, and what is said of making them
    over : the kind of the artifacts that hold the vectors
    units : what the vectors are of
    """

    wholes: Sequence[str] = ()

    def __init__(self, kind: str, step: str, *, over: str, units: str, order: int) -> None:
        self.kinds: Mapping[str, str] = {kind: step}
        self.order = order
        self._kind, self._step, self._over, self._units = kind, step, over, units

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        if not building.hands.alone and building.hands.shared:
            tasks = []
            for place, piece in lacking:
                segment = building.segment(place)
                tasks.append((piece.key(segment), piece.meta(segment, building.count(place))))
            building.progress.start(self._step, len(tasks), "segments")
            for _ in building.hands.each(codes_there, [(self._kind, self._over, *task) for task in tasks]):
                building.progress.advance(1)
            return
        opened = [
            (place, piece, full(building.store, self._over, building.segment(place), piece.facts))
            for place, piece in lacking
        ]
        building.progress.start(self._step, sum(int(own.spans[:, 1].sum()) for _, _, own in opened), self._units)
        for place, piece, own in opened:
            building.write(piece, place, made(own, piece.facts, building.progress.advance))

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        # Directions, cells and levels are found on the vectors of a segment: other vectors have others.
        if not merging.store.has(self._over, fingerprint(meta["segment"], meta["over"])):
            return None
        own = full(merging.store, self._over, meta["segment"], meta)
        merging.progress.start(self._step, int(own.spans[:, 1].sum()), self._units)
        return made(own, meta, merging.progress.advance), {}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        width = min(costing.counter.dimension, NUMBERS) * piece.facts["bits"] / A_BYTE
        disk = tokens * (width + BESIDE) + 8.0 * chunks
        return Estimate(tokens / costing.rate(self._step, 40_000.0), disk, disk + WORKING)


CODES_MAKER = CodesMaker(CODES, "code token vectors", over=TOKENS, units="tokens", order=3)


def codes_needs(branch: Settings, planning: Planning) -> Needs:
    """Vectors of all tokens, and their codes where the branch is asked by them."""
    tokens = tokens_piece(planning.counter)
    if branch["codes"] == NO_CODES:
        return Needs({TOKENS: tokens})
    facts = {"bits": int(branch["codes"]), "cells": branch["cells"], "over": tokens.of}
    return Needs({TOKENS: tokens, CODES: Piece(CODES, fingerprint(*facts.values()), facts, CODES_MAKER)})


def full(store: ArtifactStore, kind: str, segment: str, facts: Facts) -> Segment:
    """Full vectors of the passages of a segment, from artifacts of a kind."""
    arrays = store.open(kind, fingerprint(segment, facts["over"])).arrays
    return bare(arrays["spans"], arrays["codes"], arrays["scales"])


def bare(
    spans: NDArray[np.int64], codes: NDArray[np.int8], scales: NDArray[np.float32], now: NDArray[np.int64] = _none
) -> Segment:
    """Vectors of passages that are no tokens."""
    return Segment(spans, codes, scales, _none.astype(np.int32), _none.astype(np.int32), now)


def made(own: Segment, facts: Facts, advance: Callable[[int], None]) -> Arrays:
    """The arrays of an artifact of codes."""
    found = encode(own, facts["bits"], facts["cells"], advance)
    return {"turn": found.scale.turn, "centers": found.scale.centers, "levels": found.scale.levels,
            "bounds": found.bounds, "cells": found.cells, "codes": found.codes,
            "list_begins": found.lists.begins, "list_gaps": found.lists.gaps}  # fmt: skip


def codes_there(place: Place, kind: str, over: str, key: str, meta: Facts) -> None:
    """Make codes over vectors of the store and write them there; what was written meanwhile stays."""
    if not place.store.has(kind, key):
        own = full(place.store, over, meta["segment"], meta)
        place.store.write(kind, key, made(own, meta, lambda _: None), meta)


def opened_codes(artifact: Artifact) -> TokenCodes:
    """Codes from the arrays of their artifact."""
    arrays = artifact.arrays
    return TokenCodes(
        Scale(arrays["turn"], arrays["centers"], arrays["levels"]),
        arrays["bounds"],
        arrays["cells"],
        arrays["codes"],
        CellLists(arrays["list_begins"], arrays["list_gaps"]),
    )


def opened_index(opening: Opening) -> tuple[ManyIndex, TokenVectors]:
    """The index over all segments, and the token vectors it reads."""
    segments: list[tuple[Artifact, NDArray[np.int64]]] = list(opening.over(TOKENS))
    owns = [Segment.opened(artifact.arrays, now) for artifact, now in segments]
    codes: list[TokenCodes | None] = [None] * len(owns)
    if CODES in opening.needs.pieces:
        read_here_and_there(*(own.codes for own in owns))
        codes = [opened_codes(artifact) for artifact, _ in opening.over(CODES)]
    held = [Held(own, code) for own, code in zip(owns, codes, strict=True)]
    return ManyIndex(held), TokenVectors(owns)


MAKERS: Sequence[Maker] = (VECTORS_MAKER, CODES_MAKER)
