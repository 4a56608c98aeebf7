"""`./doppio sweep`: a recipe with some settings changed, over and over, and which of them to take."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer
from rich import box
from rich.markup import escape
from rich.table import Table

from doppio.command.paths import MODELS, VAR
from doppio.command.show import out, progress_bars
from doppio.command.writing import write_whole
from doppio.core.build.builder import Builder
from doppio.core.errors import DoppioError, RecipeError
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.measure.comparing import Floats, in_words
from doppio.core.measure.gate import Figure, figure
from doppio.core.measure.questions import wording_groups
from doppio.core.measure.sweep_plan import GRID, plan, with_settings
from doppio.core.measure.sweeper import Sweeper, around, finished
from doppio.core.measure.sweeping import Axis, Chosen, judged, plateau
from doppio.core.models.registry import Models
from doppio.core.recipe.check import read_recipe
from doppio.core.store.artifacts import ArtifactStore

SHOWN = 12
Rows = list[dict[str, Any]]


def sweep(
    documents: Annotated[Path, typer.Option(help="A folder of documents, one document, or a JSONL file.")],
    questions: Annotated[Path, typer.Option(help="Labelled questions, JSONL.")],
    recipe: Annotated[Path, typer.Option(help="The recipe that is changed, JSON.")],
    axes: Annotated[
        list[str],
        typer.Option(
            "--axis",
            help="A setting and its values: branches[0].k1=0.8,1.2 or fusion.weights.dense=0.5..4/8, or "
            "select.k=1..64/7 log for even ratios.",
        ),
    ],
    metric: Annotated[str, typer.Option(help="What is measured, such as recall@5 or fused:recall@20.")] = "recall@5",
    by: Annotated[str, typer.Option(help="grid, random or halving (few questions for many settings).")] = GRID,
    most: Annotated[int, typer.Option(help="Settings that are drawn by random.")] = 50,
    json_file: Annotated[Path | None, typer.Option("--json", help="Write all figures here.")] = None,
    write: Annotated[Path | None, typer.Option(help="Write the recipe with what was chosen here.")] = None,
    cache: Annotated[Path, typer.Option(help="Where built indexes are kept and found again.")] = VAR / "cache",
    seed: Annotated[int, typer.Option(help="Of the draw and of the folds.")] = 0,
) -> None:
    """Try settings, prefer a broad height to a lone peak, and say what the choice is worth on unseen questions."""
    base, wanted = read_recipe(recipe), figure(metric)
    try:
        planned = plan(base, axes, by=by, most=most, seed=seed)
    except RecipeError as error:
        raise DoppioError(f"--{error}") from error
    rows = list(planned.rows)
    for target in (json_file, write):
        if target is not None and not target.resolve().parent.is_dir():
            raise DoppioError(f"{target}: the folder {target.resolve().parent} does not exist")
    with BoundedReader() as reader:
        corpus = read_documents(documents, read=reader.documents)
    labelled = read_questions(questions, {document.id: document for document in corpus})
    with progress_bars() as bars:
        sweeper = Sweeper(Builder(ArtifactStore(cache), Models(MODELS), bars), corpus, labelled)
        if not sweeper.questions:
            raise DoppioError(f"{questions}: no question has an answer, so there is nothing to choose by")
        out.print(
            f"{len(rows) - 1} settings beside the present ones, {len(sweeper.questions)} questions, "
            f"{sweeper.lacking(planned.recipes)} indexes to build"
        )
        figures = np.full((len(rows), len(sweeper.questions)), np.nan)
        for _ in sweeper.tried(planned, wanted, figures, bars, seed=seed):
            pass
    there = finished(figures)
    kept, table = [rows[row] for row in there.tolist()], figures[there]
    near = around(planned, there)
    found = judged(table, near, wording_groups(sweeper.questions), seed=seed)
    _print(planned.axes, kept, table, near, found, wanted)
    if json_file:
        write_whole(json_file, json.dumps(_as_json(wanted, rows, figures, kept, found), indent=1, ensure_ascii=False))
    if write:
        body = with_settings(base, kept[found.best]).body
        write_whole(write, json.dumps(body, indent=1, ensure_ascii=False))


def _print(
    axes: Sequence[Axis], rows: Rows, figures: Floats, near: list[list[int]], found: Chosen, wanted: Figure
) -> None:
    means = np.nanmean(figures, axis=1)
    heights = plateau(means, near)
    heads = (*(one.path for one in axes), str(wanted), "with its neighbours", "")
    table = Table(*map(escape, heads), box=box.SIMPLE_HEAD, pad_edge=False)
    shown = np.lexsort((-means, -heights))[:SHOWN].tolist()
    for row in shown if 0 in shown else [*shown, 0]:
        mark = " and ".join(told for told, it in (("chosen", row == found.best), ("now", row == 0)) if it)
        values = (str(rows[row][one.path]) for one in axes)
        table.add_row(*map(escape, values), f"{means[row]:.4f}", f"{heights[row]:.4f}", mark)
    out.print(table)
    apart = found.against
    out.print(
        f"Chosen by these questions: {found.flattering:.4f}. Chosen without the questions that it is judged by "
        f"(nested cross-validation): [bold]{found.honest:.4f}[/], {apart.mean:+.4f} to now "
        f"({apart.low:+.4f} to {apart.high:+.4f}, p {apart.p:.3f}): {in_words(apart, apart.p)}"
    )
    others = len({*found.picked}) - 1
    if others:
        out.print(
            f"{others + 1} different settings were picked as questions were left out: the choice is not settled"
        )


def _as_json(wanted: Figure, rows: Rows, figures: Floats, kept: Rows, found: Chosen) -> dict[str, Any]:
    return {
        "figure": str(wanted),
        "settings": [
            {"settings": row, "mean": round(float(np.nanmean(own)), 6), "questions": int((~np.isnan(own)).sum())}
            for row, own in zip(rows, figures, strict=True)
        ],
        "chosen": kept[found.best],
        "flattering": round(found.flattering, 6),
        "honest": round(found.honest, 6),
        "against_now": vars(found.against),
        "picked": [kept[row] for row in found.picked],
    }
