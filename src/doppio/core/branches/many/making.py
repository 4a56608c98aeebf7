"""Codes of token vectors as a piece of an index."""

from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.making import TOKENS, VECTORS_MAKER, tokens_piece
from doppio.core.branches.many.coding import A_BYTE, NUMBERS, Scale, TokenCodes, encode
from doppio.core.branches.many.index import Held, ManyIndex
from doppio.core.branches.many.lists import CellLists
from doppio.core.fingerprint import fingerprint
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
STEP = "code token vectors"
# Bytes of an entry of a cell's list, and of the cell itself, a token.
BESIDE = 3.0
WORKING = 300e6
NO_CODES = "none"
_none = np.empty(0, np.int64)


class CodesMaker:
    """Makes codes of the vectors of all tokens, which are there by then."""

    kinds: Mapping[str, str] = {CODES: STEP}
    wholes: Sequence[str] = ()
    order = 3

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        if not building.hands.alone and building.hands.shared:
            tasks = []
            for place, piece in lacking:
                segment = building.segment(place)
                tasks.append((piece.key(segment), piece.meta(segment, building.count(place))))
            building.progress.start(STEP, len(tasks), "segments")
            for _ in building.hands.each(codes_there, tasks):
                building.progress.advance(1)
            return
        opened = [
            (place, piece, full(building.store, building.segment(place), piece.facts)) for place, piece in lacking
        ]
        building.progress.start(STEP, sum(int(own.spans[:, 1].sum()) for _, _, own in opened), "tokens")
        for place, piece, own in opened:
            building.write(piece, place, made(own, piece.facts, building.progress.advance))

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        # Directions, cells and levels are found on the vectors of a segment: other vectors have others.
        if not merging.store.has(TOKENS, fingerprint(meta["segment"], meta["over"])):
            return None
        own = full(merging.store, meta["segment"], meta)
        merging.progress.start(STEP, int(own.spans[:, 1].sum()), "tokens")
        return made(own, meta, merging.progress.advance), {}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        width = min(costing.counter.dimension, NUMBERS) * piece.facts["bits"] / A_BYTE
        disk = tokens * (width + BESIDE) + 8.0 * chunks
        return Estimate(tokens / costing.rate(STEP, 40_000.0), disk, disk + WORKING)


CODES_MAKER = CodesMaker()


def codes_needs(branch: Settings, planning: Planning) -> Needs:
    """Vectors of all tokens, and their codes where the branch is asked by them."""
    tokens = tokens_piece(planning.counter)
    if branch["codes"] == NO_CODES:
        return Needs({TOKENS: tokens})
    facts = {"bits": int(branch["codes"]), "cells": branch["cells"], "over": tokens.of}
    return Needs({TOKENS: tokens, CODES: Piece(CODES, fingerprint(*facts.values()), facts, CODES_MAKER)})


def full(store: ArtifactStore, segment: str, facts: Facts) -> Segment:
    """Full vectors of the tokens of a segment."""
    return Segment.opened(store.open(TOKENS, fingerprint(segment, facts["over"])).arrays, _none)


def made(own: Segment, facts: Facts, advance: Callable[[int], None]) -> Arrays:
    """The arrays of an artifact of codes."""
    found = encode(own, facts["bits"], facts["cells"], advance)
    return {"turn": found.scale.turn, "centers": found.scale.centers, "levels": found.scale.levels,
            "bounds": found.bounds, "cells": found.cells, "codes": found.codes,
            "list_begins": found.lists.begins, "list_gaps": found.lists.gaps}  # fmt: skip


def codes_there(place: Place, key: str, meta: Facts) -> None:
    """Make codes over token vectors of the store and write them there; what was written meanwhile stays."""
    if not place.store.has(CODES, key):
        own = full(place.store, meta["segment"], meta)
        place.store.write(CODES, key, made(own, meta, lambda _: None), meta)


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
        codes = [opened_codes(artifact) for artifact, _ in opening.over(CODES)]
    held = [Held(own, code) for own, code in zip(owns, codes, strict=True)]
    return ManyIndex(held), TokenVectors(owns)


MAKERS: Sequence[Maker] = (VECTORS_MAKER, CODES_MAKER)
