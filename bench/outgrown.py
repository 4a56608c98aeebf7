"""Postings of more chunks than memory would hold: what building and merging them takes, in seconds and bytes.

    PYTHONPATH=src:. .venv/bin/python bench/outgrown.py FOLDER [--chunks 10000000]

Chunks have 80 terms, drawn by Zipf's law from half a million: analysing text is timed elsewhere. They are built once
as a whole, and once in two halves that are merged; both must be the same to the byte. FOLDER takes about three times
what the index does. `own` is memory of the process alone; `with files` counts pages of mapped files too, which the
system takes back when it wants them.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from bench.synthetic import LENGTH, TERMS

from doppio.core.branches.sparse.building import build_postings
from doppio.core.branches.sparse.merging import merge_postings
from doppio.core.branches.sparse.postings import Postings
from doppio.core.store.artifacts import ArtifactStore

DRAWN_AT_ONCE = 8_000_000


class Drawn:
    """An analysis of no text: the terms of chunks from `first` on, the same however they are asked for."""

    def __init__(self, first: int) -> None:
        odds = np.cumsum(1 / np.arange(1, TERMS + 1))
        self.odds, self.at = odds / odds[-1], first
        self.vocabulary = {f"t{n}": n for n in range(TERMS)}
        self.block, self.held = -1, np.empty(0, np.int32)

    def numbering(self) -> "Drawn":
        return self

    def __call__(self, text: str) -> np.ndarray:
        block, place = divmod(self.at * LENGTH, DRAWN_AT_ONCE)
        if block != self.block:
            random = np.random.default_rng(block).random(DRAWN_AT_ONCE)
            self.held = np.searchsorted(self.odds, random).clip(0, TERMS - 1).astype(np.int32)
            self.block = block
        self.at += 1
        return self.held[place : place + LENGTH]


def said(name: str) -> float:
    text = Path("/proc/self/status").read_text()
    return next(int(row.split()[1]) / (1 << 20) for row in text.splitlines() if row.startswith(name))


@contextmanager
def watched() -> Iterator[Callable[[], dict[str, float]]]:
    """Seconds, and the most GiB that this process held meanwhile."""
    most, stop, begun = [0.0, 0.0], threading.Event(), time.perf_counter()

    def look() -> None:
        while not stop.wait(0.05):
            most[:] = max(most[0], said("RssAnon")), max(most[1], said("VmRSS"))

    watcher = threading.Thread(target=look, daemon=True)
    watcher.start()
    took: list[float] = []

    def figures() -> dict[str, float]:
        return {"seconds": round(took[0], 1), "own": round(most[0], 2), "with files": round(most[1], 2)}

    yield figures
    took.append(time.perf_counter() - begun)
    stop.set()
    watcher.join()


def build(store: ArtifactStore, key: str, first: int, count: int) -> dict[str, float]:
    with watched() as figures, store.scratch() as folder:
        made = build_postings(("" for _ in range(count)), count, Drawn(first), scratch=folder)  # type: ignore[arg-type]
        store.write("postings", key, made.arrays(), {})
    return figures()


def merge(store: ArtifactStore, count: int) -> dict[str, float]:
    half = count // 2
    with watched() as figures, store.scratch() as folder:
        parts = [
            (Postings.opened(store.open("postings", key).arrays), np.arange(first, first + size))
            for key, first, size in (("one", 0, half), ("two", half, count - half))
        ]
        made = merge_postings(parts, count, folder)
        store.write("postings", "merged", made.arrays(), {})
    return figures()


def alone(*given: str) -> dict[str, float]:
    """A step in a process of its own, so that nothing of the steps before counts."""
    done = subprocess.run([sys.executable, __file__, *given], check=True, capture_output=True, text=True)
    found: dict[str, float] = json.loads(done.stdout)
    return found


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("folder", type=Path)
    given.add_argument("--chunks", type=int, default=10_000_000)
    given.add_argument("--step", help=argparse.SUPPRESS)
    chosen = given.parse_args()
    count, half = chosen.chunks, chosen.chunks // 2
    store = ArtifactStore(chosen.folder)
    if chosen.step:
        steps = {
            "whole": lambda: build(store, "whole", 0, count),
            "one": lambda: build(store, "one", 0, half),
            "two": lambda: build(store, "two", half, count - half),
            "merge": lambda: merge(store, count),
        }
        print(json.dumps(steps[chosen.step]()))
        return
    chosen.folder.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=chosen.folder) as place:
        for step in ("whole", "one", "two", "merge"):
            figures = alone(place, "--chunks", str(count), "--step", step)
            print(f"{step:6} {figures['seconds']:8,.1f} s   {figures['own']:6.2f} GiB own"
                  f"   {figures['with files']:6.2f} GiB with files", flush=True)  # fmt: skip
        store = ArtifactStore(Path(place))
        whole, merged = (json.loads((store.folder_of("postings", key) / "manifest.json").read_text())["manifest"]
                         for key in ("whole", "merged"))  # fmt: skip
        size = store.describe("postings", "whole")[0]
        print(f"index  {size / (1 << 30):8.2f} GiB, {size / (count * LENGTH):.2f} bytes a term")
        print(f"merged and whole are {'the same' if whole['arrays'] == merged['arrays'] else 'NOT the same'}")


if __name__ == "__main__":
    main()
