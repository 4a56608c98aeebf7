"""`./doppio bench engines`: the index engines as ratios, side by side in one run, written to `docs/benchmarks.md`.

It takes about half an hour, most of it making up a million chunks and encoding 200,000 sentences once.
"""

import json
import os
import platform
import shutil
import time
from pathlib import Path
from typing import Any

import matplotlib as mpl
import numpy as np
from bench import dense, encoding, memory, sparse
from bench.synthetic import text_vectors, zipf_postings
from bench.timing import Row
from rich.console import Console
from rich.table import Table

from doppio.command.paths import MODELS, ROOT, VAR
from doppio.core.artifacts import ArtifactStore
from doppio.core.encoding import squares
from doppio.core.models.encoder import Encoder

SIZES = (10_000, 30_000, 100_000, 300_000, 1_000_000)
MANY, TEXTS, ASKED = 1_000_000, 200_000, 6000
STARTS = "## A first start"
PAGE, PICTURE = ROOT / "docs" / "benchmarks.md", ROOT / "docs" / "benchmarks.png"
# The graph takes minutes beyond this.
MOST_LINKED = 200_000
COLOURS = {
    "pruned ms": "#93570a",
    "exact ms": "#2b1d15",
    "int8 ms": "#1f5f96",
    "binary ms": "#7d3272",
    "hnsw ms": "#22703f",
}
NAMES = {
    "pruned ms": "sparse, pruned",
    "exact ms": "dense, exact",
    "int8 ms": "dense, int8",
    "binary ms": "dense, binary",
    "hnsw ms": "dense, graph",
}


def main(json_file: Path | None = None) -> None:
    """Measure everything, print it, and write the page and the picture."""
    mpl.use("Agg")
    console = Console()
    folder = VAR / "bench"
    folder.mkdir(parents=True, exist_ok=True)
    encoder = Encoder(MODELS / "compact-english")
    begun = time.perf_counter()
    rows, figures = encoding.measure(encoder)
    table: list[Row] = list(rows)
    all_figures: dict[str, Any] = {"encoding": figures}
    vectors = text_vectors(TEXTS, encoder, folder)
    order = np.random.default_rng(0).permutation(len(vectors))
    questions = np.ascontiguousarray(vectors[np.sort(order[:ASKED])])
    given = np.ascontiguousarray(vectors[np.sort(order[ASKED:])])
    rows, all_figures["dense"] = dense.measure(given, questions, tuple(dense.TRIED))
    table += rows
    rows, all_figures["sparse"] = sparse.measure(MANY, folder)
    table += rows
    table += remembered(folder, given)
    growth = grown(given, questions, folder, all_figures["sparse"])
    all_figures["growth"] = growth
    took = time.perf_counter() - begun
    picture(growth)
    PAGE.write_text(page(table, all_figures, growth, took), encoding="utf-8")
    console.print(shown(table))
    console.print(f"{took / 60:.0f} minutes. Written: {PAGE.relative_to(ROOT)}, {PICTURE.relative_to(ROOT)}")
    if json_file:
        json_file.write_text(json.dumps(all_figures, indent=1), encoding="utf-8")


def remembered(folder: Path, given: np.ndarray) -> list[Row]:
    """Memory of opening a large index, and of a build."""
    place = folder / "store"
    shutil.rmtree(place, ignore_errors=True)
    store = ArtifactStore(place)
    postings, _ = zipf_postings(300_000)
    store.write("postings", "bench", postings.arrays(), {})
    store.write("vectors", "bench", {"vectors": given, "squares": squares(given)}, {})
    opening = memory.opening(place)
    count = 200_000
    building = memory.encoding(place, count)
    shutil.rmtree(place)
    return [
        Row("memory to open both indexes, resident", "50 MiB", "at most 1", opening / 50, 1.0, False),
        Row(
            "memory of a build, its own",
            f"one copy of {count:,} vectors",
            "below 1",
            building / (count * 384 * 4 / 2**20),
            1.0,
            False,
        ),
    ]


def grown(
    given: np.ndarray, questions: np.ndarray, folder: Path, largest: dict[str, float]
) -> dict[int, dict[str, float]]:
    """Milliseconds a question at every size."""
    found: dict[int, dict[str, float]] = {}
    random = np.random.default_rng(1)
    for size in SIZES:
        figures = dict(largest) if size == MANY else sparse.measure(size, folder, baseline=False)[1]
        if size <= len(given):
            rows = given[:size]
        else:
            # Beyond the sentences there are, each stands several times, moved a little.
            rows = given[random.integers(0, len(given), size)]
            rows = rows + 0.02 * random.standard_normal(rows.shape, np.float32)
            rows /= np.linalg.norm(rows, axis=1, keepdims=True)
        kinds = ("int8", "binary", "hnsw") if size <= MOST_LINKED else ("int8", "binary")
        figures |= dense.measure(rows, questions[:256], kinds)[1]
        found[size] = {
            name: value for name, value in figures.items() if name in NAMES or name in ("open ms", "pack s")
        }
        del rows
    return found


def shown(table: list[Row]) -> Table:
    made = Table("what", "beside", "claim", "ratio", "holds")
    for row in table:
        holds = {True: "yes", False: "NO", None: ""}[row.holds]
        made.add_row(row.what, row.beside, row.wanted, f"{row.ratio:.3g}", holds)
    return made


def picture(growth: dict[int, dict[str, float]]) -> None:
    """How the time of a question grows."""
    from matplotlib import pyplot

    figure, axes = pyplot.subplots(figsize=(7.2, 4.2), dpi=110, facecolor="#fffdf9")
    axes.set_facecolor("#fffdf9")
    for (name, title), marker in zip(NAMES.items(), "osD^v", strict=True):
        points = [(size, row[name]) for size, row in growth.items() if name in row]
        axes.plot(*zip(*points, strict=True), marker=marker, color=COLOURS[name], label=title)
    axes.set(xscale="log", yscale="log", xlabel="chunks", ylabel="milliseconds a question; lower is better")
    axes.grid(color="#eadfce")
    axes.legend(frameon=False)
    figure.tight_layout()
    figure.savefig(PICTURE)


def page(table: list[Row], figures: dict[str, Any], growth: dict[int, dict[str, float]], took: float) -> str:
    """The page that is kept."""
    processor = next(
        (
            line.split(":")[1].strip()
            for line in Path("/proc/cpuinfo").read_text().splitlines()
            if "model name" in line
        ),
        platform.machine(),
    )
    lines = ["# Benchmarks of the index engines", ""]
    lines += [
        f"Measured by `./doppio bench engines` on {time.strftime('%d %B %Y')}: {processor}, {os.cpu_count()} cores, "
        f"in {took / 60:.0f} minutes.",
        "Every row is a ratio of two measurements of the same run; absolute times hang on the machine.",
        "Sparse: 1,000,000 chunks of about 80 terms drawn by Zipf's law from 500,000; 100 questions of 3-12 terms.",
        f"Dense: {TEXTS - ASKED:,} sentences of real text (docstrings of installed packages) by the shipped encoder.",
        "",
        "| what | beside | claim | ratio | holds |",
        "|---|---|---|---|---|",
    ]
    for row in table:
        holds = {True: "yes", False: "**no**", None: ""}[row.holds]
        lines.append(f"| {row.what} | {row.beside} | {row.wanted} | {row.ratio:.3g} | {holds} |")
    lines += ["", "## Figures behind them", "", "| | |", "|---|---|"]
    for part in ("encoding", "dense", "sparse"):
        lines += [f"| {part}: {name} | {value:,.3g} |" for name, value in figures[part].items()]
    lines += [
        "",
        "## How a question's time grows",
        "",
        "![Milliseconds a question against chunks](benchmarks.png)",
        "",
    ]
    heads = [*NAMES, "open ms", "pack s"]
    lines += [
        "| chunks | " + " | ".join(NAMES.get(name, name) for name in heads) + " |",
        "|---" * (len(heads) + 1) + "|",
    ]
    for size, row in growth.items():
        cells = [f"{row[name]:.3g}" if name in row else "" for name in heads]
        lines.append(f"| {size:,} | " + " | ".join(cells) + " |")
    lines += [
        "", "Milliseconds a question, first 10 chunks; `open` is the sparse index, `pack` is seconds to compress it.",
        "Beyond 194,000 the vectors are those of the sentences moved a little; the graph is not built there.", "",
    ]  # fmt: skip
    # What stands below was measured in another way and is kept as it is.
    _, mark, kept = (PAGE.read_text() if PAGE.exists() else "").partition(STARTS)
    return "\n".join(lines) + ("\n" + mark + kept if mark else "")
