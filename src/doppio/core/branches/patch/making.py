"""Patches of sheets as pieces of an index, and their codes."""

import shutil
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.carrying import carried_once
from doppio.core.branches.many.making import CodesMaker
from doppio.core.branches.patch.by_words import described
from doppio.core.errors import DocumentError, ModelFolderError
from doppio.core.fingerprint import fingerprint
from doppio.core.formats import optical
from doppio.core.kernels.rows import ranges
from doppio.core.kinds import Settings
from doppio.core.models.encoder import Encoder, TextEncoder
from doppio.core.models.sight import Laid
from doppio.core.models.token_vectors import compress
from doppio.core.store.artifacts import Artifact
from doppio.core.store.columns import Columns
from doppio.core.store.pieces import (
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Maker,
    Merging,
    Needs,
    Piece,
    Planning,
    Source,
)
from doppio.core.text.pictures import Line, Sheet

PATCHES, CODES = "patches", "patch-codes"
STEP = "look at pages, patch by patch"
VERSION = 1
# Letters of a sheet's digest; chunks whose sheets are asked for at a time; sheets that are kept together meanwhile.
DIGEST, CHUNKS_AT_ONCE, SHEETS_AT_ONCE = 20, 1024, 16
# Sheets a chunk, until some were counted; patches of a sheet that have words.
EXPECTED, PATCHES_A_SHEET = 0.4, 150
_ROWS = ("codes", "scales", "cells")


@dataclass(frozen=True)
class Patches:
    """The sheets of a segment.

    carried : (n, 2) int64, chunks of the segment and the sheets that they stand on
    spans : (m, 2) int64, the first patch of each sheet and how many it has
    codes, scales : (p, d) int8 and (p,) float32
    cells : (p,) uint16, the cell of its sheet's grid that each patch is
    grids : (m, 4) float32, rows, columns, and how much of the grid's breadth and height the sheet covers
    held, held_spans : (t,) int32 and (m, 2) int64, numbers of the tokens that stand on each sheet, each once
    digests : (m, 20) uint8, in letters
    """

    carried: NDArray[np.int64]
    spans: NDArray[np.int64]
    codes: NDArray[np.int8]
    scales: NDArray[np.float32]
    cells: NDArray[np.uint16]
    grids: NDArray[np.float32]
    held: NDArray[np.int32]
    held_spans: NDArray[np.int64]
    digests: NDArray[np.uint8]

    @classmethod
    def opened(cls, artifact: Artifact) -> "Patches":
        return cls(**{name: artifact.arrays[name] for name in cls.__dataclass_fields__})

    def __len__(self) -> int:
        return len(self.spans)

    def laid(self, sheet: int) -> Laid:
        rows, columns, right, bottom = self.grids[sheet].tolist()
        return Laid(int(rows), int(columns), right, bottom)


class PatchesMaker:
    """Looks at every sheet of a segment; one that cannot be seen or read has no patches.

    Notes
    -----
    Some sheets at a time are kept on disk as they are done: who was stopped goes on behind them.
    """

    kinds: Mapping[str, str] = {PATCHES: STEP}
    wholes: Sequence[str] = ()
    order = 2

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            carried, sheets = carried_once(building.texts.sheets, building.numbers(place), CHUNKS_AT_ONCE)
            building.progress.start(STEP, len(sheets), "pages")
            folder = building.store.root / f".encoding-{fingerprint(piece.key(building.segment(place)), PATCHES)}"
            folder.mkdir(parents=True, exist_ok=True)
            parts = self._seen(folder, sheets, piece, building)
            arrays = _gathered(parts, carried, folder)
            building.write(piece, place, arrays, sheets=len(arrays["spans"]), patches=len(arrays["codes"]))
            shutil.rmtree(folder, ignore_errors=True)

    def _seen(self, folder: Path, sheets: Sequence[Sheet], piece: Piece, building: Building) -> Iterator[Arrays]:
        encoder = building.models.encoder(piece.facts["encoder"])
        for first in range(0, len(sheets), SHEETS_AT_ONCE):
            some = sheets[first : first + SHEETS_AT_ONCE]
            # By what they are of, so that a part of other sheets is never taken for it.
            path = folder / f"{fingerprint([one.digest for one in some])}.npz"
            found = _kept(path)
            if found is None:
                found = _looked_at(encoder, some, piece.facts)
                draft = path.with_suffix(".draft")
                with draft.open("wb") as file:
                    np.savez(file, allow_pickle=False, **found)
                draft.replace(path)
            yield found
            building.progress.advance(len(some))

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        carried: list[tuple[int, int]] = []
        places: dict[bytes, int] = {}

        def parts() -> Iterator[Arrays]:
            for source in sources:
                own = Patches.opened(source.artifact)
                wanted = []
                for row, sheet in own.carried.tolist():
                    now = int(source.now[row])
                    if now < 0:
                        continue
                    digest = own.digests[sheet].tobytes()
                    if digest not in places:
                        places[digest] = len(places)
                        wanted.append(sheet)
                    carried.append((now, places[digest]))
                for first in range(0, len(wanted), SHEETS_AT_ONCE):
                    yield _part_of(own, wanted[first : first + SHEETS_AT_ONCE])

        arrays = _gathered(parts(), carried, merging.scratch)
        return arrays, {"sheets": len(arrays["spans"]), "patches": len(arrays["codes"])}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        sheets = chunks * EXPECTED
        disk = sheets * PATCHES_A_SHEET * (costing.models.encoder(piece.facts["encoder"]).dimension + 6.0)
        return Estimate(sheets / costing.rate(STEP, 2.0), disk, 64e6)


PATCHES_MAKER = PatchesMaker()
PATCH_CODES_MAKER = CodesMaker(CODES, "code the vectors of patches", over=PATCHES, units="patches", order=4)
MAKERS: Sequence[Maker] = (PATCHES_MAKER, PATCH_CODES_MAKER)


def patches_piece(branch: Settings, planning: Planning) -> Piece:
    """Patches of all sheets of a segment, by the encoder of a branch."""
    encoder = planning.models.encoder(branch["encoder"])
    facts: Facts = {"encoder": branch["encoder"], "rows": branch["rows"], "columns": branch["columns"]}
    sight = encoder.sight
    if sight is not None and sight.grid:
        rows, columns = sight.grid
        facts = {**facts, "rows": rows, "columns": columns}
    of = fingerprint(VERSION, optical.EDITION, encoder.digest, facts["rows"], facts["columns"])
    return Piece(PATCHES, of, facts, PATCHES_MAKER)


def patch_needs(branch: Settings, planning: Planning) -> Needs:
    """Patches, and their codes."""
    patches = patches_piece(branch, planning)
    facts = {"bits": int(branch["codes"]), "cells": branch["cells"], "over": patches.of}
    return Needs({PATCHES: patches, CODES: Piece(CODES, fingerprint(*facts.values()), facts, PATCH_CODES_MAKER)})


def _kept(path: Path) -> Arrays | None:
    """A part that was kept; None where there is none, or not all of it reached the disk."""
    try:
        with np.load(path, allow_pickle=False) as kept:
            return dict(kept)
    except (OSError, ValueError, EOFError, zipfile.BadZipFile):
        return None


def _looked_at(encoder: TextEncoder, sheets: Sequence[Sheet], facts: Facts) -> Arrays:
    """Patches of some sheets: by the pictures of these where the encoder has a grid, or else by their words."""
    none = np.empty(0, np.int32)
    if encoder.sight is not None and encoder.sight.grid:
        drawn: list[tuple[int, bytes]] = []
        for number, sheet in enumerate(sheets):
            with suppress(DocumentError, OSError):
                drawn.append((number, sheet.draw()))
        vectors = [np.empty((0, encoder.dimension), np.float32)] * len(sheets)
        cells = [np.empty(0, np.int64)] * len(sheets)
        laid = [Laid(facts["rows"], facts["columns"])] * len(sheets)
        for seen in encoder.sight.see([picture for _, picture in drawn]):
            for place, own, its, lies in zip(seen.place.tolist(), seen.patches, seen.cells, seen.laid, strict=True):
                number = drawn[place][0]
                vectors[number], cells[number], laid[number] = own, its, lies
        held = [none] * len(sheets)
    else:
        if not isinstance(encoder, Encoder) or not encoder.gives_tokens:
            raise ModelFolderError(f"{encoder.name}: gives neither patches of pictures nor vectors of tokens")
        lines: list[Sequence[Line]] = []
        for sheet in sheets:
            lines.append(())
            with suppress(DocumentError, OSError):
                lines[-1] = sheet.lines()
        found = described(encoder, lines, facts["rows"], facts["columns"])
        vectors, cells, held = ([getattr(own, name) for own in found] for name in ("vectors", "cells", "held"))
        laid = [Laid(facts["rows"], facts["columns"])] * len(sheets)
    codes, scales = compress(np.concatenate(vectors))
    return {
        "counts": np.array([len(own) for own in vectors], np.int64),
        "codes": codes,
        "scales": scales,
        "cells": np.concatenate(cells).astype(np.uint16),
        "grids": np.array([[one.rows, one.columns, one.right, one.bottom] for one in laid], np.float32),
        "held": np.concatenate([none, *held]),
        "held_counts": np.array([len(own) for own in held], np.int64),
        "digests": np.array([list(fingerprint(one.digest).encode()) for one in sheets], np.uint8),
    }


def _part_of(own: Patches, sheets: Sequence[int]) -> Arrays:
    """Some sheets of a segment, as a part of another one."""
    spans, held = own.spans[sheets], own.held_spans[sheets]
    rows = ranges(spans[:, 0], spans[:, 1])
    return {
        "counts": spans[:, 1],
        **{name: getattr(own, name)[rows] for name in _ROWS},
        "grids": own.grids[sheets],
        "held": own.held[ranges(held[:, 0], held[:, 1])],
        "held_counts": held[:, 1],
        "digests": own.digests[sheets],
    }


def _gathered(parts: Iterator[Arrays], carried: list[tuple[int, int]], scratch: Path) -> Arrays:
    """The arrays of an artifact from those of its parts, which lie on disk meanwhile."""
    columns = Columns(scratch)
    empty: Arrays = {
        "counts": np.empty(0, np.int64), "codes": np.empty((0, 0), np.int8), "scales": np.empty(0, np.float32),
        "cells": np.empty(0, np.uint16), "grids": np.empty((0, 4), np.float32), "held": np.empty(0, np.int32),
        "held_counts": np.empty(0, np.int64), "digests": np.empty((0, DIGEST), np.uint8),
    }  # fmt: skip
    for part in parts:
        for name in empty:
            columns.add(name, part[name])
    found = {**empty, **columns.taken()}
    counts, held = np.asarray(found.pop("counts")), np.asarray(found.pop("held_counts"))
    return {
        # Parts may come from a generator that fills the list.
        "carried": np.array(sorted(carried), np.int64).reshape(-1, 2),
        "spans": np.stack([np.cumsum(counts) - counts, counts], axis=1),
        "held_spans": np.stack([np.cumsum(held) - held, held], axis=1),
        **found,
    }
