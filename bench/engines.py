"""`./doppio bench engines`: the index engines as ratios, side by side in one run.

A sample takes about five minutes. With `--large` it is a million chunks and 200,000 encoded sentences, over an hour
the first time, and `docs/benchmarks.md` is written from it.
"""

import json
import platform
import shutil
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import matplotlib as mpl
import numpy as np
from bench import dense, encoding, memory, sparse
from bench.synthetic import text_vectors, zipf_postings
from bench.timing import Row
from rich.table import Table

from doppio.command.paths import MODELS, ROOT, VAR
from doppio.command.show import out, progress_bars
from doppio.core.branches.dense.encoding import squares
from doppio.core.cores import cores
from doppio.core.models.encoder import Encoder
from doppio.core.progress import Progress
from doppio.core.store.artifacts import ArtifactStore


@dataclass(frozen=True)
class Scale:
    """How large a run is.

    sizes : chunks at which the growth of a question's time is measured; the last is that of the sparse ratios
    texts : sentences that are encoded, `asked` of them as questions
    paragraphs : texts that encoding is timed on
    linked : chunks beyond which no graph is built, which takes minutes there
    """

    sizes: tuple[int, ...]
    texts: int
    asked: int
    paragraphs: int
    linked: int


SAMPLE = Scale((10_000, 30_000, 100_000), 12_000, 2000, 300, 20_000)
LARGE = Scale((10_000, 30_000, 100_000, 300_000, 1_000_000), 200_000, 6000, 900, 200_000)
STARTS = "## A first start"
PAGE, PICTURE = ROOT / "docs" / "benchmarks.md", ROOT / "docs" / "benchmarks.png"
FEWER = (
    "The claims for dense structures are made for some 190,000 vectors; with fewer, what a question costs anyhow "
    "weighs more."
)
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


def main(json_file: Path | None = None, large: bool = False) -> None:
    """Measure and print; the large run writes the page and the picture too."""
    mpl.use("Agg")
    scale = LARGE if large else SAMPLE
    folder = VAR / "bench"
    begun = time.perf_counter()
    with progress_bars() as progress:
        encoder = Encoder(MODELS / "compact-english")
        told(progress, "encoding")
        rows, figures = encoding.measure(encoder, scale.paragraphs)
        table: list[Row] = list(rows)
        all_figures: dict[str, Any] = {"encoding": figures}
        vectors = text_vectors(scale.texts, encoder, folder, progress)
        order = np.random.default_rng(0).permutation(len(vectors))
        questions = np.ascontiguousarray(vectors[np.sort(order[: scale.asked])])
        given = np.ascontiguousarray(vectors[np.sort(order[scale.asked :])])
        told(progress, f"dense structures over {len(given):,} sentences")
        rows, all_figures["dense"] = dense.measure(given, questions, tuple(dense.TRIED))
        table += rows
        told(progress, f"sparse search over {scale.sizes[-1]:,} chunks")
        rows, all_figures["sparse"] = sparse.measure(scale.sizes[-1], folder)
        table += rows
        told(progress, "memory")
        table += remembered(folder, given, scale.sizes[-1])
        growth = grown(given, questions, folder, all_figures["sparse"], scale, progress)
    all_figures["growth"] = growth
    took = time.perf_counter() - begun
    out.print(shown(table))
    if large:
        picture(growth)
        PAGE.write_text(page(table, all_figures, growth, took, len(given)), encoding="utf-8")
        out.print(f"{took / 60:.0f} minutes. Written: {PAGE.relative_to(ROOT)}, {PICTURE.relative_to(ROOT)}")
    else:
        out.print(f"{took / 60:.1f} minutes for a sample; --large measures all and writes {PAGE.relative_to(ROOT)}")
    if json_file:
        json_file.write_text(json.dumps(all_figures, indent=1), encoding="utf-8")


def told(progress: Progress, what: str) -> None:
    """A line that says what is measured now."""
    progress.start(f"measure {what}", 1, "run")
    progress.advance(1)


def remembered(folder: Path, given: np.ndarray, chunks: int) -> list[Row]:
    """Memory of opening a large index, and of building both kinds."""
    place = folder / "store"
    shutil.rmtree(place, ignore_errors=True)
    store = ArtifactStore(place)
    postings, _ = zipf_postings(300_000)
    store.write("postings", "bench", postings.arrays(), {})
    store.write("vectors", "bench", {"vectors": given, "squares": squares(given)}, {})
    opening = memory.opening(place)
    count = 200_000
    building = memory.encoding(place, count)
    indexing = memory.indexing(place, chunks)
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
        Row(
            f"memory of indexing {chunks:,} chunks, beyond the result",
            "1 GB",
            "below 1",
            indexing * 2**20 / 1e9,
            1.0,
            False,
        ),
    ]


def grown(
    given: np.ndarray,
    questions: np.ndarray,
    folder: Path,
    largest: dict[str, float],
    scale: Scale,
    progress: Progress,
) -> dict[int, dict[str, float]]:
    """Milliseconds a question at every size."""
    found: dict[int, dict[str, float]] = {}
    random = np.random.default_rng(1)
    for size in scale.sizes:
        told(progress, f"growth at {size:,} chunks")
        figures = dict(largest) if size == scale.sizes[-1] else sparse.measure(size, folder, baseline=False)[1]
        if size <= len(given):
            rows = given[:size]
        else:
            # Beyond the sentences there are, each stands several times, moved a little.
            rows = given[random.integers(0, len(given), size)]
            rows = rows + 0.02 * random.standard_normal(rows.shape, np.float32)
            rows /= np.linalg.norm(rows, axis=1, keepdims=True)
        kinds = ("int8", "binary", "hnsw") if size <= scale.linked else ("int8", "binary")
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


def page(
    table: list[Row], figures: dict[str, Any], growth: dict[int, dict[str, float]], took: float, sentences: int
) -> str:
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
        f"Measured by `./doppio bench engines --large` on {time.strftime('%d %B %Y')}: {processor}, {cores()} cores, "
        f"in {took / 60:.0f} minutes.",
        "Every row is a ratio of two measurements of the same run; absolute times hang on the machine.",
        "Sparse: 1,000,000 chunks of about 80 terms drawn by Zipf's law from 500,000; 100 questions of 3-12 terms.",
        f"Dense: {sentences:,} sentences of real text (docstrings of installed packages) by the shipped encoder.",
        *([FEWER] if sentences < LARGE.texts - LARGE.asked else []),
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
        f"Beyond {sentences:,} the vectors are those of sentences moved a little; the graph is not built there.", "",
    ]  # fmt: skip
    # What stands below was measured in another way and is kept as it is.
    _, mark, kept = (PAGE.read_text() if PAGE.exists() else "").partition(STARTS)
    return "\n".join(lines) + ("\n" + mark + kept if mark else "")
