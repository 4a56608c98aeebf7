"""`./doppio trial`: recipes over documents and labelled questions, without database or web server; and a gate."""

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any

import typer
from rich import box
from rich.markup import escape
from rich.table import Table

from doppio.command.gate import Outcome, as_junit, as_markdown, judge, outcome_json, read_wish, show, told_run
from doppio.command.paths import MODELS, VAR
from doppio.command.show import out, progress_bars
from doppio.command.writing import write_whole
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.formats.runs import measured_run, read_run
from doppio.core.formats.trec import qrels_lines, run_lines
from doppio.core.measure.gate import Told
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import CAUSES, DELIVERED
from doppio.core.measure.questions import Question
from doppio.core.measure.trial import CUTOFFS, Trial, run_trial
from doppio.core.models.registry import Models
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import unheard
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import Document, corpus_fingerprint


def trial(
    documents: Annotated[Path, typer.Option(help="A folder of documents, one document, or a JSONL file.")],
    questions: Annotated[Path, typer.Option(help="Labelled questions, JSONL.")],
    recipe: Annotated[list[Path], typer.Option(help="A recipe, JSON; more than one are compared.")],
    baseline: Annotated[
        Path | None, typer.Option(help="What is compared against: another recipe, or the JSON of an earlier run.")
    ] = None,
    metric: Annotated[
        list[str] | None, typer.Option(help="What is compared, such as recall@5 or fused:recall@20. [delivered]")
    ] = None,
    fail_below: Annotated[
        list[str] | None, typer.Option(help="Close the gate where a figure is below, such as recall@5=0.80.")
    ] = None,
    fail_if_worse: Annotated[
        float | None, typer.Option(help="Close the gate where a recipe loses more than this, and not by chance.")
    ] = None,
    beside: Annotated[
        list[Path] | None, typer.Option(help="A TREC run of another system, compared with the recipes.")
    ] = None,
    markdown: Annotated[Path | None, typer.Option(help="Write the comparison for people here.")] = None,
    junit: Annotated[Path | None, typer.Option(help="Write the gate's checks as JUnit XML here.")] = None,
    json_file: Annotated[Path | None, typer.Option("--json", help="Write all results here.")] = None,
    run: Annotated[Path | None, typer.Option(help="Write the last stage as a TREC run.")] = None,
    qrels: Annotated[Path | None, typer.Option(help="Write the judgements as TREC qrels.")] = None,
    k: Annotated[str, typer.Option(help="Cut-offs of the metrics, with commas.")] = "1,3,5,10,20",
    cache: Annotated[Path, typer.Option(help="Where built indexes are kept and found again.")] = VAR / "cache",
    cover: Annotated[float, typer.Option(help="Share of the shorter of span and chunk that must overlap.")] = 0.5,
) -> None:
    """Measure recipes against labelled questions, say where answers were lost, and hold a gate.

    Ends with 1 where the gate closes, and with 2 where something given is wrong.
    """
    cutoffs = _cutoffs(k)
    if not 0 < cover <= 1:
        raise DoppioError(f"--cover: {cover} is not above 0 and at most 1")
    for target in (json_file, run, qrels, markdown, junit):
        if target is not None and not target.resolve().parent.is_dir():
            raise DoppioError(f"{target}: the folder {target.resolve().parent} does not exist")
    if len(recipe) > 1 and (run or qrels):
        raise DoppioError("--run and --qrels are of one recipe; name one with --recipe")
    wanted = read_wish(recipe, baseline, metric or [], fail_below or [], fail_if_worse)
    begun = time.perf_counter()
    with BoundedReader() as reader:
        corpus = read_documents(documents, read=reader.documents)
    labelled = read_questions(questions, {document.id: document for document in corpus})
    reading = time.perf_counter() - begun
    others = [
        told_run(path, measured_run(read_run(path, corpus, labelled), corpus, labelled, cutoffs=cutoffs, cover=cover))
        for path in beside or []
    ]
    found = []
    with progress_bars() as bars:
        builder = Builder(ArtifactStore(cache), Models(MODELS), bars)
        for checked in wanted.recipes:
            measured = _measure(builder, checked, corpus, labelled, cutoffs, cover)
            measured.seconds["read"] = reading
            found.append(measured)
    identities = [document.id for document in corpus]
    outcome = judge(wanted, [Told.of(one.recipe.name, one.result) for one in found], others)
    if json_file:
        write_whole(json_file, json.dumps(_whole_json(found, outcome), indent=1, ensure_ascii=False))
    if run:
        write_whole(run, "\n".join(run_lines(found[0].result, found[0].table, identities, found[0].recipe.name)))
    if qrels:
        write_whole(qrels, "\n".join(qrels_lines(found[0].result, found[0].table, identities)))
    if markdown:
        write_whole(markdown, as_markdown(outcome, {question.id: question.text for question in labelled}))
    if junit:
        write_whole(junit, as_junit(outcome))
    for measured in found:
        _print(measured.recipe, measured.result, len(corpus), len(measured.table), cutoffs, measured.seconds)
    show(outcome)
    if not outcome.open:
        raise typer.Exit(1)


@dataclass(frozen=True)
class Measured:
    """A recipe with what its trial found; `seconds` a step."""

    recipe: Recipe
    result: Trial
    table: ChunkTable
    seconds: dict[str, float]


def _measure(
    builder: Builder,
    recipe: Recipe,
    corpus: Sequence[Document],
    labelled: Sequence[Question],
    cutoffs: Sequence[int],
    cover: float,
) -> Measured:
    seconds: dict[str, float] = {"read": 0.0}
    begun = time.perf_counter()
    key = corpus_fingerprint(corpus)
    table = builder.chunks(corpus, key, recipe)
    texts = CorpusTexts(corpus, table, recipe.chunking["context"])
    seconds["chunk"] = time.perf_counter() - begun
    begun = time.perf_counter()
    builder.indexes(key, recipe, texts)
    pipeline = builder.open(key, recipe, texts)
    seconds["index"] = time.perf_counter() - begun
    names = [document.id for document in corpus]
    result = run_trial(pipeline, names, labelled, cutoffs=cutoffs, cover=cover, progress=builder.progress)
    return Measured(recipe, result, table, seconds | result.seconds)


def _whole_json(found: Sequence[Measured], outcome: Outcome) -> dict[str, Any]:
    """One trial as ever, several as a list; with what was compared and checked."""
    trials = [as_json(one.recipe, one.result, one.table, one.seconds) for one in found]
    whole = trials[0] if len(trials) == 1 else {"trials": trials}
    return {**whole, **outcome_json(outcome)}


def as_json(recipe: Recipe, result: Trial, table: ChunkTable, seconds: dict[str, float]) -> dict[str, Any]:
    """What `--json` writes of a trial."""
    told = Told.of(recipe.name, result)
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
        "answers": {name: round(value, 6) for name, value in result.answers.items()},
        "seconds": {step: round(value, 6) for step, value in seconds.items()},
        "by_question": {
            stage: {
                question: {metric: round(value, 6) for metric, value in metrics.items()}
                for question, metrics in rows.items()
            }
            for stage, rows in told.values.items()
        },
    }


def _answered(told: dict[str, float]) -> str:
    """What the answers are worth, in a line."""
    figures = {
        "word F1": told.get("f1"), "of the label's words": told.get("holds"), "word for word": told.get("exact"),
        "sentences that cite it": told.get("cited"),
    }  # fmt: skip
    means = "  ".join(f"{name} {value:.3f}" for name, value in figures.items() if value is not None)
    return (
        f"answers  {means}  silent {told['silent_right']:g} of {told['unanswerable']:g} unanswerable, "
        f"{told['silent_wrong']:g} of {told['answerable']:g} answerable"
    )


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
    if result.answers:
        out.print(_answered(result.answers))
    times = "  ".join(f"{step} {value:.2f} s" for step, value in seconds.items())
    out.print(f"times  {times}")
