"""Many vectors a passage: codes and cells beside comparing every vector, at 20,000 pages of 300.

    PYTHONPATH=src:. .venv/bin/python bench/many.py [--pages 20000]

Vectors are those of the tokens of the demo's documents, in 128 numbers, moved a little: a page has 300 of a few
neighbouring documents. Questions are tokens of a page, moved more. Comparing all is measured twice: by the loops that
search exactly, and by the linear-algebra library over numbers that are held in memory in full. Takes some minutes.
"""

import argparse
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from doppio.command.paths import MODELS
from doppio.core.branches.many.coding import encode
from doppio.core.branches.many.index import Asked, Held, ManyIndex
from doppio.core.formats.documents import read_documents
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import Segment, compress

AT_ONCE = 1 << 16
PATCHES, NUMBERS, DEPTH, QUESTIONS, TOKENS = 300, 128, 10, 40, 12
TRIED = ({"probes": 4, "over_fetch": 4}, {"probes": 16, "over_fetch": 4}, {"probes": 16, "over_fetch": 10},
         {"probes": 32, "over_fetch": 20})  # fmt: skip


def seeds() -> tuple[NDArray[np.float32], NDArray[np.int64]]:
    """Vectors of tokens of the demo, and the document of each."""
    encoder = Models(MODELS).encoder()
    rows, owners = [], []
    for place, document in enumerate(read_documents(Path("demo/documents"))):
        texts = [document.text[at : at + 600] for at in range(0, min(len(document.text), 12_000), 600)]
        for batch in encoder.encode(texts, tokens=True):
            assert batch.tokens is not None
            for own in batch.tokens:
                rows.append(own)
                owners.append(np.full(len(own), place))
    joined = np.concatenate(rows)
    _, directions = np.linalg.eigh(joined.T.astype(np.float64) @ joined)
    return (joined @ directions[:, ::-1][:, :NUMBERS]).astype(np.float32), np.concatenate(owners)


def unit(rows: NDArray[np.float32]) -> NDArray[np.float32]:
    return (rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-9)).astype(np.float32)


def median(asked: Callable[[Asked], object], questions: list[Asked]) -> float:
    """Milliseconds of a question."""
    asked(questions[0])
    took = []
    for question in questions:
        begun = time.perf_counter()
        asked(question)
        took.append(time.perf_counter() - begun)
    return float(np.median(took)) * 1e3


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("--pages", type=int, default=20_000)
    pages = given.parse_args().pages
    known, owners = seeds()
    order = np.argsort(owners, kind="stable")
    random = np.random.default_rng(1)
    full = np.empty((pages * PATCHES, NUMBERS), np.float32)
    for page in range(pages):
        first = random.integers(len(order) - 4000)
        own = known[order[first + random.integers(4000, size=PATCHES)]]
        noise = 0.3 * np.linalg.norm(own, axis=1, keepdims=True) / np.sqrt(NUMBERS)
        full[page * PATCHES : (page + 1) * PATCHES] = unit(own + noise * random.standard_normal(own.shape))
    parts = [compress(full[at : at + AT_ONCE]) for at in range(0, len(full), AT_ONCE)]
    codes, scales = (np.concatenate(side) for side in zip(*parts, strict=True))
    spans = np.stack([np.arange(pages) * PATCHES, np.full(pages, PATCHES)], axis=1)
    nothing = np.zeros(1, np.int32)
    segment = Segment(spans, codes, scales, nothing, nothing)
    questions = []
    for page in random.integers(pages, size=QUESTIONS).tolist():
        own = full[page * PATCHES + random.choice(PATCHES, TOKENS, replace=False)]
        weights = random.random(TOKENS).astype(np.float32) + 0.1
        moved = own + 0.8 / np.sqrt(NUMBERS) * random.standard_normal(own.shape)
        questions.append(Asked(unit(moved), weights / weights.sum()))
    plain = ManyIndex([Held(segment)])
    truth = [set(plain.search(question, DEPTH, None)[0].tolist()) for question in questions]

    def by_library(asked: Asked) -> NDArray[np.int64]:
        best = (full @ asked.vectors.T).reshape(pages, PATCHES, -1).max(axis=1) @ asked.weights
        return np.argsort(-best)[:DEPTH]

    exact = {"loops": median(lambda q: plain.search(q, DEPTH, None), questions[:10]),
             "library": median(by_library, questions[:10])}  # fmt: skip
    print(f"{pages:,} pages x {PATCHES}, comparing all: " + ", ".join(f"{n} {ms:.0f} ms" for n, ms in exact.items()))
    for bits in (1, 2):
        begun = time.perf_counter()
        made = encode(segment, bits, 0)
        index = ManyIndex([Held(segment, made)])
        built, each = time.perf_counter() - begun, made.bytes / len(codes)
        print(f"{bits} bits: {each:.1f} bytes a patch, {len(made.scale.centers):,} cells, built in {built:.0f} s")
        for settings in TRIED:
            ms = median(lambda q, s=settings: index.search(q, DEPTH, s), questions)  # noqa: B023
            shares = [len(truth[n] & set(index.search(q, DEPTH, settings)[0].tolist())) / DEPTH
                      for n, q in enumerate(questions)]  # fmt: skip
            print(f"  {settings}: {ms:.1f} ms, {min(exact.values()) / ms:.0f} times the faster of both, "
                  f"overlap@10 {np.mean(shares):.3f}")  # fmt: skip


if __name__ == "__main__":
    main()
