"""Made-up corpora for measuring: terms as unevenly common as words are, vectors with the structure of real text."""

from pathlib import Path

import numpy as np
from bench.real_text import sentences
from numpy.typing import NDArray

from doppio.core.models.encoder import Encoder
from doppio.core.sparse.postings import Postings, pack_postings

TERMS, LENGTH = 500_000, 80


def zipf_postings(chunks: int, seed: int = 0) -> tuple[Postings, list[list[str]]]:
    """Postings of chunks with about 80 terms each, and 100 questions of 3 to 12 terms of the same kind."""
    random = np.random.default_rng(seed)
    odds = np.cumsum(1 / np.arange(1, TERMS + 1))
    odds /= odds[-1]
    lengths = random.poisson(LENGTH, chunks).clip(1).astype(np.int32)
    stream = np.searchsorted(odds, random.random(int(lengths.sum()))).clip(0, TERMS - 1).astype(np.int32)
    questions = [
        [f"t{n}" for n in np.unique(np.searchsorted(odds, random.random(random.integers(3, 13))))] for _ in range(100)
    ]
    return pack_postings([f"t{n}" for n in range(TERMS)], stream, lengths), questions


def text_vectors(count: int, encoder: Encoder, kept: Path) -> NDArray[np.float32]:
    """Vectors of `count` sentences of real text, encoded once and kept: (count, d) float32, mapped from disk."""
    path = kept / "vectors.npy"
    if path.exists():
        found: NDArray[np.float32] = np.load(path, mmap_mode="r")
        if len(found) >= count:
            return found[:count]
    texts = sentences(count)
    kept.mkdir(parents=True, exist_ok=True)
    draft = kept / ".vectors.npy"
    rows = np.lib.format.open_memmap(draft, "w+", np.float32, (len(texts), encoder.dimension))
    order = sorted(range(len(texts)), key=lambda place: len(texts[place]))
    for first in range(0, len(order), 4096):
        part = order[first : first + 4096]
        rows[part] = encoder.vectors([texts[place] for place in part])
    rows.flush()
    draft.rename(path)
    return text_vectors(len(texts), encoder, kept)
