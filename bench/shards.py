"""Asking over segments on two search workers beside one, and beside no worker at all.

    PYTHONPATH=src:. .venv/bin/python bench/shards.py FOLDER [--chunks 1000000]

Chunks are drawn vectors of 384 numbers, of unit length, and postings of 80 terms by Zipf's law, in eight segments.
A worker is a process with one core; asker and scheduler have what is left. Exact search compares every vector.
Told are the median time of a question that is asked alone, and questions a second by eight askers.
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
from bench.synthetic import zipf_postings

from doppio.core.branches.dense.index import DenseIndex
from doppio.core.branches.dense.metric import COSINE
from doppio.core.branches.dense.spread import SpreadDense
from doppio.core.branches.dense.spread import open_part as open_dense
from doppio.core.branches.sparse.index import SparseIndex
from doppio.core.branches.sparse.spread import SpreadSparse
from doppio.core.branches.sparse.spread import open_part as open_sparse
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.branches.spread import Index
from doppio.core.fingerprint import fingerprint
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Place
from doppio.core.store.segments import Stand
from doppio.machines.crew import DaskCrew
from doppio.machines.shards import DaskShards

SEGMENTS, DIMENSION, DEPTH, ASKERS, ASKED = 8, 384, 50, 8, 24
DENSE = Index(open_dense, (COSINE, ("vectors", "bench"), None))
SPARSE = Index(open_sparse, ("postings", "bench"))


def make(store: ArtifactStore, chunks: int) -> list[Stand]:
    """Write the segments that are lacking."""
    size, stands = chunks // SEGMENTS, []
    for number in range(SEGMENTS):
        key = f"{chunks}s{number}"
        stands.append(Stand(key, np.arange(number * size, (number + 1) * size)))
        of = fingerprint(key, "bench")
        if not store.has("vectors", of):
            rows = np.random.default_rng(number).standard_normal((size, DIMENSION), np.float32)
            rows /= np.linalg.norm(rows, axis=1, keepdims=True)
            store.write("vectors", of, {"vectors": rows, "squares": np.einsum("ij,ij->i", rows, rows)}, {})
        if not store.has("postings", of):
            store.write("postings", of, zipf_postings(size, number)[0].arrays(), {})
    return stands


@contextmanager
def workers(folder: Path, count: int) -> Iterator[DaskCrew]:
    """A scheduler, and so many workers of one core each."""
    place = {**os.environ, "DOPPIO_ARTIFACTS": str(folder), "DOPPIO_CORES": "1", "OMP_NUM_THREADS": "1"}
    with tempfile.TemporaryDirectory() as told:
        file = Path(told) / "scheduler.json"

        def begin(*given: str, core: int | None = None) -> "subprocess.Popen[bytes]":
            pinned = [] if core is None else ["taskset", "-c", str(core)]
            return subprocess.Popen(
                [*pinned, sys.executable, "-m", *given], env=place, stderr=subprocess.DEVNULL, start_new_session=True
            )

        scheduler = ["distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard"]
        running = [begin(*scheduler, "--no-show", "--scheduler-file", str(file))]
        try:
            while not (address := address_in(file)):
                time.sleep(0.1)
            running += [begin("doppio", "worker", address, "--processes", "1", core=core) for core in range(count)]
            crew = DaskCrew(address)
            while len(crew.client().nthreads()) < count:
                time.sleep(0.1)
            yield crew
            crew.client().close()
        finally:
            for process in running:
                os.killpg(process.pid, 9)
                process.wait()


def address_in(told: Path) -> str | None:
    """The address in a scheduler's file; none while it is not there, or not all of it is written."""
    try:
        return str(json.loads(told.read_text())["address"])
    except (FileNotFoundError, json.JSONDecodeError):
        return None


def spread(crew: DaskCrew, stands: list[Stand]) -> DaskShards:
    opened: Any = SimpleNamespace(stands=stands, segments=[SimpleNamespace(table=stand.now) for stand in stands])
    return DaskShards(crew, opened, last=60.0, late=60.0)


def timed(ask: Callable[[int], Any]) -> tuple[float, float]:
    """Milliseconds of a question asked alone, and questions a second by all askers."""
    for number in range(4):
        ask(number)
    alone = []
    for number in range(ASKED):
        begun = time.perf_counter()
        ask(number)
        alone.append(time.perf_counter() - begun)
    begun = time.perf_counter()
    with ThreadPoolExecutor(ASKERS) as pool:
        list(pool.map(ask, range(3 * ASKED)))
    return float(np.median(alone)) * 1e3, 3 * ASKED / (time.perf_counter() - begun)


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("folder", type=Path)
    given.add_argument("--chunks", type=int, default=1_000_000)
    chosen = given.parse_args()
    store = ArtifactStore(chosen.folder)
    stands = make(store, chosen.chunks)
    asked = np.random.default_rng(99).standard_normal((3 * ASKED, 1, DIMENSION)).astype(np.float32)
    terms = zipf_postings(10, 77)[1]
    here = Place(Models(chosen.folder / "models"), store)
    dense: DenseIndex = open_dense(here, stands, *DENSE.given)
    sparse: SparseIndex = SparseIndex(open_sparse(here, stands, *SPARSE.given).segments)

    def of(dense: DenseIndex, sparse: SparseIndex) -> dict[str, Callable[[int], Any]]:
        return {
            "exact search": lambda number: dense.search_many(asked[number], DEPTH)[0],
            "BM25": lambda number: sparse.search(terms[number], DEPTH, Weighting()),
        }

    expected = {name: [ask(number) for number in range(8)] for name, ask in of(dense, sparse).items()}
    found = {"here": {name: timed(ask) for name, ask in of(dense, sparse).items()}}

    def on(count: int) -> dict[str, tuple[float, float]]:
        with workers(chosen.folder, count) as crew:
            shards = spread(crew, stands)
            asking = of(SpreadDense(shards, DENSE, COSINE), SpreadSparse(shards, SPARSE))
            for name, ask in asking.items():
                for number, (chunks, scores) in enumerate(expected[name]):
                    other = ask(number)
                    assert np.array_equal(chunks, other[0]) and np.array_equal(scores, other[1]), (name, number)
            return {name: timed(ask) for name, ask in asking.items()}

    found |= {"1 worker": on(1), "2 workers": on(2)}
    print(f"{chosen.chunks:,} chunks in {SEGMENTS} segments; answers are identical")
    for name in ("exact search", "BM25"):
        one, two = found["1 worker"][name], found["2 workers"][name]
        for where, figures in found.items():
            print(f"  {name:12} {where:10} {figures[name][0]:8.1f} ms   {figures[name][1]:8.1f} a second")
        print(f"  {name:12} two beside one: time {two[0] / one[0]:.2f}, throughput {two[1] / one[1]:.2f}")


if __name__ == "__main__":
    main()
