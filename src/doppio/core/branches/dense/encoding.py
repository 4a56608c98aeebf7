"""Encoding the chunks of a segment: in batches of like length, straight to disk, going on after a kill.

Vectors are written where they belong in a file of their final size, so memory holds one batch and no more. After
every batch the files are flushed and a note says how far they are; who comes back begins there.
"""

import json
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.index import VECTORS
from doppio.core.models import token_vectors
from doppio.core.models.encoder import TextEncoder, check_finite
from doppio.core.progress import Progress
from doppio.core.store.artifacts import ArtifactStore, Facts

TOKENS_A_BATCH, MOST_ROWS, LEAST_ROWS = 4096, 64, 8
NOTE = "at.json"
_RAW: dict[str, type[np.generic]] = {"codes": np.int8, "scales": np.float32, "ids": np.int32}


@dataclass(frozen=True)
class Wanted:
    """What encoding a segment is to leave behind.

    name : str, of the segment and the encoder together
    vectors, tokens : key and meta of the artifact, or None where it is there already
    unit : whether vectors are brought to unit length
    """

    name: str
    vectors: tuple[str, Facts] | None
    tokens: tuple[str, Facts] | None
    unit: bool = True


def batches(lengths: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Rows in the order of their lengths, in batches of about 4,096 tokens."""
    order = np.argsort(lengths, kind="stable")
    found, first = [], 0
    while first < len(order):
        # The longest of a batch sets its width; it is not known before its size is.
        rows = MOST_ROWS
        while rows > LEAST_ROWS:
            last = min(first + rows, len(order)) - 1
            if rows * (int(lengths[order[last]]) + 2) <= TOKENS_A_BATCH:
                break
            rows -= LEAST_ROWS
        found.append(order[first : first + rows])
        first += rows
    return found


@dataclass(frozen=True)
class Made:
    """What became of some texts of a batch.

    place : (m,) int64, positions of the texts in the batch
    vectors : (m, d) float32
    tokens : for each of them the codes, scales and numbers of its tokens; empty where they are not wanted
    """

    place: NDArray[np.int64]
    vectors: NDArray[np.float32]
    tokens: list[tuple[NDArray[np.int8], NDArray[np.float32], NDArray[np.int32]]]


def made_of(encoder: TextEncoder, texts: Sequence[str], with_tokens: bool, unit: bool) -> list[Made]:
    """Encode a batch; see `check_finite` for errors."""
    found = []
    for batch in encoder.encode(texts, tokens=with_tokens):
        vectors = check_finite(batch.vectors, encoder, [texts[at] for at in batch.place])
        if unit:
            vectors = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
        tokens = []
        for matrix, ids in zip(batch.tokens or (), batch.ids or (), strict=True) if with_tokens else ():
            tokens.append((*token_vectors.compress(matrix), ids.astype(np.int32)))
        found.append(Made(batch.place, vectors, tokens))
    return found


def encode_segment(
    store: ArtifactStore,
    encoder: TextEncoder,
    texts: Callable[[Sequence[int]], list[str]],
    lengths: NDArray[np.int64],
    wanted: Wanted,
    progress: Progress,
    made: Callable[[Iterator[list[str]], bool], Iterator[list[Made]]] | None = None,
) -> None:
    """Encode the chunks of a segment and write its artifacts.

    Parameters
    ----------
    texts : callable
        From rows of the segment to their texts.
    lengths : (n,) int64 array
        Tokens of each, about; they only decide the order.
    progress : Progress
        Counts tokens; the step has been started.
    made : callable or None
        Encodes batches one after another, with the vectors of tokens or without, as `made_of` does by the encoder;
        None where this process does.
    """
    folder = store.root / f".encoding-{wanted.name}"
    folder.mkdir(parents=True, exist_ok=True)
    count, dimension = len(lengths), encoder.dimension
    begun = _read_note(folder)
    if begun is None or (wanted.tokens and begun["tokens"] < 0) or not (folder / "vectors.npy").exists():
        # Without a note whatever files are there are of no use.
        shutil.rmtree(folder)
        folder.mkdir()
        begun = {"rows": 0, "tokens": 0 if wanted.tokens else -1}
    rows_done, tokens_done = begun["rows"], begun["tokens"]
    # Who began with tokens goes on with them, also where only the vectors are still wanted.
    with_tokens = tokens_done >= 0
    mode: Any = "r+" if rows_done else "w+"
    try:
        vectors = mapped(folder / "vectors.npy", mode, np.float32, (max(count, 1), dimension))
        spans = mapped(folder / "spans.npy", mode, np.int64, (max(count, 1), 2))
    except OSError:
        if not rows_done:
            shutil.rmtree(folder)
        raise
    raw = {name: (folder / name).open("r+b" if rows_done else "w+b") for name in _RAW if with_tokens}
    try:
        for name, file in raw.items():
            width = dimension if name == "codes" else 1
            file.truncate(tokens_done * width * np.dtype(_RAW[name]).itemsize)
            file.seek(0, os.SEEK_END)
        place = 0
        ordered = batches(lengths)
        ends = np.cumsum([len(rows) for rows in ordered])
        before = int(np.searchsorted(ends, rows_done, side="right"))
        if before:
            place = int(ends[before - 1])
            progress.advance(int(sum(lengths[rows].sum() for rows in ordered[:before])))
        left = ordered[before:]
        read = (texts(rows.tolist()) for rows in left)
        found = (
            made(read, with_tokens)
            if made is not None
            else (made_of(encoder, batch, with_tokens, wanted.unit) for batch in read)
        )
        for rows, batch in zip(left, found, strict=True):
            place += len(rows)
            for part in batch:
                vectors[rows[part.place]] = part.vectors
                for at, (codes, scales, ids) in zip(part.place, part.tokens, strict=False):
                    spans[rows[at]] = tokens_done, len(scales)
                    tokens_done += len(scales)
                    for name, array in (("codes", codes), ("scales", scales), ("ids", ids)):
                        raw[name].write(np.ascontiguousarray(array).tobytes())
            vectors.flush()
            spans.flush()
            for file in raw.values():
                file.flush()
                os.fsync(file.fileno())
            _write_note(folder, {"rows": place, "tokens": tokens_done})
            progress.advance(int(lengths[rows].sum()))
    finally:
        for file in raw.values():
            file.close()
    del vectors, spans
    if wanted.tokens:
        key, meta = wanted.tokens
        size: int = encoder.vocabulary_size  # type: ignore[attr-defined]
        store.write(token_vectors.KIND, key, _token_arrays(folder, count, dimension, size), meta)
    if wanted.vectors:
        key, meta = wanted.vectors
        store.write(VECTORS, key, vector_arrays(folder, count), meta | {"dimension": dimension})
    shutil.rmtree(folder, ignore_errors=True)


def mapped(path: Path, mode: Any, kind: Any, shape: tuple[int, ...]) -> "np.memmap[Any, Any]":
    """An array in a file that has all of its room: a full disk is told here, not by a signal while it fills."""
    array: np.memmap[Any, Any] = np.lib.format.open_memmap(path, mode, kind, shape)
    with path.open("r+b") as file:
        os.posix_fallocate(file.fileno(), 0, path.stat().st_size)
    return array


def vector_arrays(folder: Path, count: int) -> dict[str, NDArray[Any] | Path]:
    """The arrays of a vectors artifact from its draft; the large one is moved and not copied."""
    rows = np.load(folder / "vectors.npy", mmap_mode="r")
    if not count:
        return {"vectors": np.empty((0, rows.shape[1]), np.float32), "squares": np.empty(0, np.float32)}
    return {"vectors": folder / "vectors.npy", "squares": squares(rows)}


def squares(rows: NDArray[np.float32]) -> NDArray[np.float32]:
    """Squared length of every row."""
    found = np.empty(len(rows), np.float32)
    for first in range(0, len(rows), 1 << 14):
        part = rows[first : first + (1 << 14)]
        found[first : first + len(part)] = np.einsum("ij,ij->i", part, part)
    return found


def _token_arrays(folder: Path, count: int, dimension: int, vocabulary: int) -> dict[str, NDArray[Any] | Path]:
    spans = np.load(folder / "spans.npy")[:count]
    arrays: dict[str, NDArray[Any] | Path] = {"spans": spans}
    for name, kind in _RAW.items():
        path = folder / name
        shape = (-1, dimension) if name == "codes" else (-1,)
        arrays[name] = (
            np.memmap(path, kind, "r").reshape(shape) if path.stat().st_size else np.empty((0, *shape[1:]), kind)
        )
    ids = arrays["ids"]
    assert not isinstance(ids, Path)
    arrays["frequency"] = token_vectors.frequencies(spans, ids, vocabulary)
    return arrays


def _read_note(folder: Path) -> dict[str, int] | None:
    try:
        found: dict[str, int] = json.loads((folder / NOTE).read_text())
    except (OSError, ValueError):
        return None
    return found


def _write_note(folder: Path, note: dict[str, int]) -> None:
    draft = folder / f".{NOTE}"
    with draft.open("w") as file:
        json.dump(note, file)
        file.flush()
        os.fsync(file.fileno())
    draft.replace(folder / NOTE)
