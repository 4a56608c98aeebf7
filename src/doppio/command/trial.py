"""`./doppio trial`: a recipe over documents and labelled questions, without database or web server."""

import json
import os
import time
from pathlib import Path
from typing import Annotated, Any

import typer
from rich import box
from rich.markup import escape
from rich.table import Table

from doppio.command.paths import MODELS, VAR
from doppio.command.show import out, progress_bars
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.formats.trec import qrels_lines, run_lines
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import CAUSES, DELIVERED
from doppio.core.measure.trial import CUTOFFS, Trial, run_trial
from doppio.core.models.registry import Models
from doppio.core.recipe.check import read_recipe
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import unheard
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint


def trial(
    documents: Annotated[Path, typer.Option(help="A folder of documents, one document, or a JSONL file.")],
    questions: Annotated[Path, typer.Option(help="Labelled questions, JSONL.")],
    recipe: Annotated[Path, typer.Option(help="A recipe, JSON.")],
    json_file: Annotated[Path | None, typer.Option("--json", help="Write all results here.")] = None,
    run: Annotated[Path | None, typer.Option(help="Write the last stage as a TREC run.")] = None,
    qrels: Annotated[Path | None, typer.Option(help="Write the judgements as TREC qrels.")] = None,
    k: Annotated[str, typer.Option(help="Cut-offs of the metrics, with commas.")] = "1,3,5,10,20",
    cache: Annotated[Path, typer.Option(help="Where built indexes are kept and found again.")] = VAR / "cache",
    cover: Annotated[float, typer.Option(help="Share of the shorter of span and chunk that must overlap.")] = 0.5,
) -> None:
    """Measure a recipe against labelled questions and say at which stage answers were lost."""
    cutoffs = _cutoffs(k)
    if not 0 < cover <= 1:
        raise DoppioError(f"--cover: {cover} is not above 0 and at most 1")
    for target in (json_file, run, qrels):
        if target is not None and not target.resolve().parent.is_dir():
            raise DoppioError(f"{target}: the folder {target.resolve().parent} does not exist")
    seconds: dict[str, float] = {}
    checked = read_recipe(recipe)
    begun = time.perf_counter()
    with BoundedReader() as reader:
        corpus = read_documents(documents, read=reader.documents)
    labelled = read_questions(questions, {document.id: document for document in corpus})
    seconds["read"] = time.perf_counter() - begun
    with progress_bars() as bars:
        builder = Builder(ArtifactStore(cache), Models(MODELS), bars)
        begun = time.perf_counter()
        key = corpus_fingerprint(corpus)
        table = builder.chunks(corpus, key, checked)
        texts = CorpusTexts(corpus, table, checked.chunking["context"])
        seconds["chunk"] = time.perf_counter() - begun
        begun = time.perf_counter()
        builder.indexes(key, checked, texts)
        pipeline = builder.open(key, checked, texts)
        seconds["index"] = time.perf_counter() - begun
        result = run_trial(pipeline, [d.id for d in corpus], labelled, cutoffs=cutoffs, cover=cover, progress=bars)
    seconds |= result.seconds
    identities = [document.id for document in corpus]
    if json_file:
        _write(json_file, json.dumps(as_json(checked, result, table, seconds), indent=1, ensure_ascii=False))
    if run:
        _write(run, "\n".join(run_lines(result, table, identities, checked.name)))
    if qrels:
        _write(qrels, "\n".join(qrels_lines(result, table, identities)))
    _print(checked, result, len(corpus), len(table), cutoffs, seconds)


def as_json(recipe: Recipe, result: Trial, table: ChunkTable, seconds: dict[str, float]) -> dict[str, Any]:
    """What `--json` writes."""
    return {
        "recipe": recipe.body,
        "questions": len(result.rows),
        "answerable": result.answerable,
        "chunks": len(table),
        "stages": {
            stage: {metric: round(value, 6) for metric, value in metrics.items()}
            for stage, metrics in result.stages.items()
        },
        "levels": result.levels,
        "ledger": result.ledger,
        "intact": result.intact,
        "seconds": {step: round(value, 6) for step, value in seconds.items()},
    }


def _cutoffs(text: str) -> list[int]:
    try:
        found = sorted({int(part) for part in text.split(",")})
    except ValueError as error:
        raise DoppioError(f"--k: {text!r} is not a list of whole numbers such as {_joined(CUTOFFS)}") from error
    if not found or found[0] < 1 or found[-1] > 10_000:
        raise DoppioError(f"--k: {text!r}: each number must be between 1 and 10000")
    return found


def _joined(numbers: tuple[int, ...]) -> str:
    return ",".join(map(str, numbers))


def _write(path: Path, text: str) -> None:
    """Write a whole file or none."""
    draft = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        draft.write_text(text + "\n", encoding="utf-8")
        draft.replace(path)
    except OSError as error:
        draft.unlink(missing_ok=True)
        raise DoppioError(f"{path}: cannot be written ({error.strerror})") from error


def _print(
    recipe: Recipe, result: Trial, documents: int, chunks: int, cutoffs: list[int], seconds: dict[str, float]
) -> None:
    out.print(
        f"\n[bold]{recipe.name}[/]  {documents} documents, {chunks} chunks, {len(result.rows)} questions, "
        f"{result.answerable} of them answerable; {result.intact} have an answer whole in one chunk\n"
    )
    shown = [f"recall@{k}" for k in cutoffs] + [f"ndcg@{min(cutoffs, key=lambda k: abs(k - 10))}", "mrr"]
    heads = [name if place == 0 else name.removeprefix("recall") for place, name in enumerate(shown)]
    for remark in recipe.remarks + unheard(recipe.scorers, recipe.select, Models(MODELS)):
        out.print(f"[yellow]{escape(remark)}[/yellow]")
    out.print("Means over answerable questions, larger is better")
    table = Table("stage", "in play", *heads, box=box.SIMPLE_HEAD, pad_edge=False)
    for column in table.columns[1:]:
        column.justify = "right"
    for stage, metrics in result.stages.items():
        level = result.levels[stage]
        table.add_row(stage, f"{level}", *(f"{metrics[name]:.3f}" if metrics else "" for name in shown))
    out.print(table)
    out.print("Where questions ended")
    causes = Table("ledger", "questions", box=box.SIMPLE_HEAD, pad_edge=False)
    causes.columns[1].justify = "right"
    for cause in CAUSES:
        causes.add_row(cause, str(result.ledger[cause]))
    causes.add_section()
    causes.add_row("all", str(len(result.rows)))
    out.print(causes)
    low, high = wilson(result.ledger[DELIVERED], result.answerable)
    if result.answerable:
        share = result.ledger[DELIVERED] / result.answerable
        out.print(f"delivered {share:.1%} of answerable questions, 95 % interval {low:.1%} to {high:.1%}")
    times = "  ".join(f"{step} {value:.2f} s" for step, value in seconds.items())
    out.print(f"times  {times}")
