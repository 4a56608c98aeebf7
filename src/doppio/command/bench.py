"""`./doppio bench`: how long a question takes on the demo corpus, and which stage takes it."""

import json
import runpy
import statistics
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Annotated

import typer
from rich import box
from rich.table import Table

from doppio.command.paths import DEMO, MODELS, ROOT, VAR
from doppio.command.show import out, progress_bars
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint

RECIPE = DEMO / "recipes" / "two-branch-3.json"
LIMITS = {"with reranking of 20": 0.400, "without reranking": 0.040}


def bench(
    what: Annotated[
        str, typer.Argument(help="What is timed: questions, chunking, engines, scorer or comparing.")
    ] = "questions",
    rounds: Annotated[int, typer.Option(help="Times that each question is asked.", min=1)] = 3,
    most: Annotated[int, typer.Option(help="Questions to ask; the demo's first.", min=1)] = 60,
    json_file: Annotated[Path | None, typer.Option("--json", help="Write the figures here.")] = None,
    large: Annotated[bool, typer.Option(help="Engines: a million chunks, no sample; writes the page.")] = False,
    cache: Annotated[Path, typer.Option(help="Where built indexes are kept and found again.")] = VAR / "cache",
) -> None:
    """Time the demo's questions stage by stage, cutting, the engines, the joint scorer, or comparisons."""
    if what in ("chunking", "engines", "scorer", "comparing"):
        sys.path.insert(0, str(ROOT))
        measure = runpy.run_path(str(ROOT / "bench" / f"{what}.py"))["main"]
        if what == "engines":
            measure(json_file, large)
        else:
            measure(json_file)
        return
    if what != "questions":
        raise DoppioError(f"bench: {what!r} is not one of questions, chunking, engines, scorer, comparing")
    _questions(rounds, most, json_file, cache)


def _questions(rounds: int, most: int, json_file: Path | None, cache: Path) -> None:
    documents = read_documents(DEMO / "documents")
    questions = read_questions(DEMO / "questions.jsonl", {document.id: document for document in documents})[:most]
    corpus = corpus_fingerprint(documents)
    body = json.loads(RECIPE.read_text())
    figures = {}
    with progress_bars() as bars:
        builder = Builder(ArtifactStore(cache), Models(MODELS), bars)
        for name in LIMITS:
            recipe = check(body if name.startswith("with ") else {**body, "rerank": None})
            table = builder.chunks(documents, corpus, recipe)
            texts = CorpusTexts(documents, table, recipe.chunking["context"])
            builder.indexes(corpus, recipe, texts)
            pipeline = builder.open(corpus, recipe, texts)
            if pipeline.reranker is not None:
                # The same question comes several times, and every time it shall be scored.
                pipeline = replace(pipeline, reranker=pipeline.reranker.bare())
            bars.start(f"ask, {name}", rounds * len(questions), "questions")
            figures[name] = _measure(pipeline, [question.text for question in questions], rounds, bars.advance)
    for name, limit in LIMITS.items():
        _print(name, figures[name], limit)
    if json_file:
        json_file.write_text(json.dumps(figures, indent=1) + "\n")


def _measure(pipeline: Pipeline, questions: list[str], rounds: int, count: Callable[[int], object]) -> dict:
    for question in questions[:5]:
        pipeline.ask(question)
    totals: list[float] = []
    steps: dict[str, list[float]] = {}
    for _ in range(rounds):
        for question in questions:
            begun = time.perf_counter()
            trace = pipeline.ask(question)
            totals.append(time.perf_counter() - begun)
            for step, seconds in trace.seconds.items():
                steps.setdefault(step, []).append(seconds)
            count(1)
    ordered = sorted(totals)
    return {
        "questions": len(totals),
        "median": statistics.median(ordered),
        "p95": ordered[int(0.95 * (len(ordered) - 1))],
        "steps": {step: statistics.median(values) for step, values in steps.items()},
    }


def _print(name: str, figures: dict, limit: float) -> None:
    median = figures["median"]
    out.print()
    out.print(
        f"One question, {name}: median {1000 * median:.1f} ms, 95th percentile {1000 * figures['p95']:.1f} ms "
        f"({'within' if median <= limit else 'OVER'} the aim of {1000 * limit:.0f} ms)"
    )
    table = Table("stage", "median", "share", box=box.SIMPLE_HEAD)
    for column in table.columns[1:]:
        column.justify = "right"
    for step, seconds in figures["steps"].items():
        table.add_row(step, f"{1000 * seconds:.2f} ms", f"{seconds / sum(figures['steps'].values()):.0%}")
    out.print(table)
