"""Encoding beside a bare ONNX Runtime loop over perfectly sorted batches, and how much of it is padding."""

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from bench.real_text import sentences
from bench.timing import Row

from doppio.core.branches.dense.encoding import Wanted, encode_segment
from doppio.core.models.encoder import Encoder
from doppio.core.progress import Silent
from doppio.core.store.artifacts import ArtifactStore


def measure(encoder: Encoder, count: int = 900) -> tuple[list[Row], dict[str, float]]:
    """Encode `count` paragraphs of sentences of real text, both ways, in turns."""
    random = np.random.default_rng(0)
    pool = sentences(6000)
    texts = [" ".join(random.choice(pool, random.integers(1, 14))) for _ in range(count)]
    encodings = encoder._cut.encode_batch(texts)
    ids = [np.array(encoding.ids, np.int64) for encoding in encodings]
    lengths = np.array([len(one) for one in ids])
    order = np.argsort(lengths, kind="stable")
    counted = np.array([len(units.starts) for units in encoder.token_offsets(texts)], np.int64)
    shapes: list[tuple[int, int]] = []
    real_run: Any = encoder._run

    def seen(batch: Any, mask: Any, tokens: bool) -> Any:
        shapes.append(batch.shape)
        return real_run(batch, mask, tokens)

    def bare() -> None:
        for first in range(0, len(order), 32):
            rows = order[first : first + 32]
            batch = np.zeros((len(rows), lengths[rows].max()), np.int64)
            mask = np.zeros_like(batch)
            for row, number in enumerate(rows):
                batch[row, : lengths[number]] = ids[number]
                mask[row, : lengths[number]] = 1
            encoder._graph.run([encoder._vector], {encoder._ids: batch, encoder._mask: mask}, len(batch))

    def ours(folder: Path) -> None:
        wanted = Wanted("bench", ("bench", {}), None)
        limit = np.minimum(counted, encoder.max_tokens)
        encode_segment(ArtifactStore(folder), encoder, lambda rows: [texts[r] for r in rows], limit, wanted, Silent())

    with tempfile.TemporaryDirectory() as folder:
        bare()
        times = []
        for turn in range(3):
            begun = time.perf_counter()
            bare()
            middle = time.perf_counter()
            encoder._run = seen if turn == 0 else real_run  # type: ignore[method-assign]
            ours(Path(folder) / str(turn))
            times.append((middle - begun, time.perf_counter() - middle))
    ratio = float(np.median([own / plain for plain, own in times]))
    padded = sum(rows * columns for rows, columns in shapes)
    padding = 1 - int(lengths.sum()) / padded
    figures = {
        "tokens a second": float(lengths.sum() / min(own for _, own in times)),
        "chunks a second": count / min(own for _, own in times),
        "padding": padding,
    }
    return [
        Row("encoding", "bare ONNX Runtime loop, perfectly sorted", "at most 1.1", ratio, 1.1, False),
        Row("padding, share of tokens", "1", "at most .05", padding, 0.05, False),
    ], figures
