"""What opening an index costs in memory, in a process of its own."""

import subprocess
import sys
from pathlib import Path

_OPEN = """
import sys
from pathlib import Path
import numpy as np
from doppio.core.artifacts import ArtifactStore
from doppio.core.dense.index import DenseIndex, Segment as Rows
from doppio.core.dense.metric import prepared
from doppio.core.sparse.index import Segment, SparseIndex
from doppio.core.sparse.postings import Postings
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
from doppio.core.artifacts import ArtifactStore
from doppio.core.encoding import Wanted, encode_segment
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


def opening(folder: Path) -> float:
    """MiB that become resident when the sparse and the dense index kept as `bench` are opened."""
    return _run(_OPEN, folder)


def encoding(folder: Path, chunks: int) -> float:
    """MiB of memory of its own that a build holds at most while it writes the vectors of so many chunks."""
    return _run(_ENCODE, folder, chunks)


def _run(code: str, *given: object) -> float:
    done = subprocess.run([sys.executable, "-c", code, *map(str, given)], check=True, capture_output=True, text=True)
    return float(done.stdout)
