"""Made-up corpora for measuring: terms as unevenly common as words are, vectors with the structure of real text."""

from pathlib import Path

import numpy as np
from bench.real_text import sentences
from numpy.typing import NDArray

from doppio.core.branches.sparse.building import pack_postings
from doppio.core.branches.sparse.postings import Postings
from doppio.core.models.encoder import Encoder
from doppio.core.progress import Progress

TERMS, LENGTH = 500_000, 80
BLOCK = 10_000


def zipf_postings(chunks: int, seed: int = 0, length: int = LENGTH) -> tuple[Postings, list[list[str]]]:
    """Postings of chunks with about `length` terms each, and 100 questions of 3 to 12 terms of the same kind."""
    random = np.random.default_rng(seed)
    odds = np.cumsum(1 / np.arange(1, TERMS + 1))
    odds /= odds[-1]
    lengths = random.poisson(length, chunks).clip(1).astype(np.int32)
    stream = np.searchsorted(odds, random.random(int(lengths.sum()))).clip(0, TERMS - 1).astype(np.int32)
    questions = [
        [f"t{n}" for n in np.unique(np.searchsorted(odds, random.random(random.integers(3, 13))))] for _ in range(100)
    ]
    return pack_postings([f"t{n}" for n in range(TERMS)], stream, lengths), questions


def text_vectors(count: int, encoder: Encoder, kept: Path, progress: Progress) -> NDArray[np.float32]:
    """Vectors of `count` sentences of real text: (count, d) float32. They are encoded once and kept, block by block,
    so that a larger run, or one that was stopped, encodes only what is lacking."""
    texts = sentences(count)
    blocks = [texts[first : first + BLOCK] for first in range(0, len(texts), BLOCK)]
    paths = [kept / f"vectors-{encoder.digest[:8]}-{place:03d}.npy" for place in range(len(blocks))]
    kept.mkdir(parents=True, exist_ok=True)
    there = [len(np.load(path, mmap_mode="r")) if path.exists() else 0 for path in paths]
    lacking = [place for place, block in enumerate(blocks) if there[place] < len(block)]
    progress.start("encode sentences", sum(len(blocks[place]) for place in lacking), "sentences")
    for place in lacking:
        block = blocks[place]
        rows = np.empty((len(block), encoder.dimension), np.float32)
        order = sorted(range(len(block)), key=lambda at: len(block[at]))
        for first in range(0, len(order), 512):
            part = order[first : first + 512]
            rows[part] = encoder.vectors([block[at] for at in part])
            progress.advance(len(part))
        draft = kept / ".vectors.npy"
        np.save(draft, rows)
        draft.rename(paths[place])
    found = [np.load(path)[: len(block)] for path, block in zip(paths, blocks, strict=True)]
    return np.concatenate(found)
