"""What opening an index costs in memory, in a process of its own."""

import os
import subprocess
import sys
from pathlib import Path

_OPEN = """
import sys
from pathlib import Path
import numpy as np
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.branches.dense.index import DenseIndex, Segment as Rows
from doppio.core.branches.dense.metric import prepared
from doppio.core.branches.sparse.index import Segment, SparseIndex
from doppio.core.branches.sparse.postings import Postings
from doppio.core.models.encoder import Encoder

def resident():
    lines = Path("/proc/self/status").read_text().splitlines()
    return sum(int(line.split()[1]) for line in lines if line.startswith(("RssAnon", "RssFile")))

store = ArtifactStore(Path(sys.argv[1]))
before = resident()
held = store.open("postings", "bench").arrays
sparse = SparseIndex([Segment(Postings.opened(held))])
found = store.open("vectors", "bench").arrays
dense = DenseIndex([Rows(prepared(found["vectors"], found["squares"], "cosine"))])
print((resident() - before) / 1024)
"""
_ENCODE = """
import sys
from pathlib import Path
import numpy as np
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.branches.dense.encoding import Wanted, encode_segment
from doppio.core.models.encoder import Encoded
from doppio.core.progress import Silent

class Given:
    dimension, max_tokens = 384, 254
    def encode(self, texts, tokens=False):
        yield Encoded(np.arange(len(texts)), np.ones((len(texts), 384), np.float32), None, None)

def peak():
    lines = Path("/proc/self/status").read_text().splitlines()
    return sum(int(line.split()[1]) for line in lines if line.startswith("RssAnon"))

most, before = 0, peak()
class Watching(Silent):
    def advance(self, count):
        global most
        most = max(most, peak())

count = int(sys.argv[2])
wanted = Wanted("bench", ("memory", {}), None)
read = lambda rows: [""] * len(rows)
encode_segment(ArtifactStore(Path(sys.argv[1])), Given(), read, np.full(count, 20), wanted, Watching())
print((max(most, peak()) - before) / 1024)
"""
_BUILD = """
import sys
from pathlib import Path
import numpy as np
from bench.synthetic import TERMS
from doppio.core.branches.sparse.building import build_postings

class Drawn:
    vocabulary = {f"t{n}": n for n in range(TERMS)}
    def __init__(self):
        self.random = np.random.default_rng(0)
        odds = np.cumsum(1 / np.arange(1, TERMS + 1))
        self.odds, self.held, self.at = odds / odds[-1], np.empty(0, np.int32), 0
    def numbering(self):
        return self
    def __call__(self, text):
        if self.at + 80 > len(self.held):
            drawn = np.searchsorted(self.odds, self.random.random(8_000_000))
            self.held, self.at = drawn.clip(0, TERMS - 1).astype(np.int32), 0
        self.at += 80
        return self.held[self.at - 80 : self.at]

def line(name):
    text = Path("/proc/self/status").read_text()
    return next(int(row.split()[1]) / 1024 for row in text.splitlines() if row.startswith(name))

count, drawn = int(sys.argv[2]), Drawn()
build_postings(["x"] * 100, 100, drawn)
before = line("VmRSS")
Path("/proc/self/clear_refs").write_text("5")
made = build_postings(("x" for _ in range(count)), count, drawn)
print(line("VmHWM") - before - sum(array.nbytes for array in made.arrays().values()) / 2**20)
"""


def opening(folder: Path) -> float:
    """MiB that become resident when the sparse and the dense index kept as `bench` are opened."""
    return _run(_OPEN, folder)


def encoding(folder: Path, chunks: int) -> float:
    """MiB of memory of its own that a build holds at most while it writes the vectors of so many chunks."""
    return _run(_ENCODE, folder, chunks)


def indexing(folder: Path, chunks: int) -> float:
    """MiB that building the postings of so many chunks of 80 terms holds at most, beyond the postings."""
    return _run(_BUILD, folder, chunks)


def _run(code: str, *given: object) -> float:
    place = {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}
    done = subprocess.run(
        [sys.executable, "-c", code, *map(str, given)], check=True, capture_output=True, text=True, env=place
    )
    return float(done.stdout)
