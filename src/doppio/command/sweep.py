"""`./doppio sweep`: a recipe with some settings changed, over and over, and which of them to take."""

import json
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
from doppio.core.measure.sweeper import Sweeper
from doppio.core.measure.sweeping import (
    KEPT,
    Axis,
    Chosen,
    axis,
    changed,
    drawn,
    grid,
    halving,
    judged,
    neighbours,
    plateau,
    steps,
)
from doppio.core.models.registry import Models
from doppio.core.progress import Progress
from doppio.core.recipe.check import check, read_recipe
from doppio.core.recipe.recipe import Recipe
from doppio.core.store.artifacts import ArtifactStore

MOST, SHOWN = 2_000, 12
GRID, RANDOM, HALVING = "grid", "random", "halving"
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
    if by not in (GRID, RANDOM, HALVING):
        raise DoppioError(f"--by: {by!r} is none of {GRID}, {RANDOM}, {HALVING}")
    base, wanted = read_recipe(recipe), figure(metric)
    read = [axis(text) for text in axes]
    rows, recipes = _recipes(base, read, by, most, seed)
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
            f"{sweeper.lacking(recipes)} indexes to build"
        )
        figures = _figures(sweeper, recipes, wanted, by, bars, seed)
    # Only what all questions were asked under can be chosen.
    there = np.flatnonzero((np.isnan(figures) == np.isnan(figures[0])).all(axis=1))
    kept, table = [rows[row] for row in there.tolist()], figures[there]
    near = neighbours(read, kept) if by == GRID else [[place] for place in range(len(kept))]
    found = judged(table, near, np.arange(table.shape[1]), seed=seed)
    _print(read, kept, table, near, found, wanted)
    if json_file:
        write_whole(json_file, json.dumps(_as_json(wanted, rows, figures, kept, found), indent=1, ensure_ascii=False))
    if write:
        body = changed(base.body, kept[found.best]) | {"name": base.name}
        write_whole(write, json.dumps(body, indent=1, ensure_ascii=False))


def _recipes(base: Recipe, axes: list[Axis], by: str, most: int, seed: int) -> tuple[Rows, list[Recipe]]:
    """The settings, those of the recipe as it is first, and their recipes.

    Raises
    ------
    DoppioError
        If there are too many, or one is no recipe.
    """
    twice = [one.path for one in axes]
    if len(set(twice)) < len(twice):
        raise DoppioError(f"--axis: {max(twice, key=twice.count)} is given twice")
    count = int(np.prod([len(one.values) for one in axes]))
    if by == RANDOM:
        rows = drawn(axes, most, seed)
    elif count > MOST:
        raise DoppioError(f"--axis: {count:,} settings are more than {MOST:,}; draw some with --by random --most 200")
    else:
        rows = grid(axes)
    now = {one.path: _now(base, one.path) for one in axes}
    rows = [now, *(row for row in rows if row != now)]
    recipes = []
    for row in rows:
        try:
            recipes.append(check(changed(base.body, row)))
        except RecipeError as error:
            told = ", ".join(f"{path}={value}" for path, value in row.items())
            raise DoppioError(f"--axis: {told}: {error}") from error
    return rows, recipes


def _now(base: Recipe, path: str) -> Any:
    here: Any = base.body
    for part in steps(path):
        try:
            here = here[part]
        except (KeyError, IndexError, TypeError) as error:
            raise DoppioError(f"--axis: {path}: the recipe has no such setting") from error
    return here


def _figures(sweeper: Sweeper, recipes: list[Recipe], wanted: Figure, by: str, bars: Progress, seed: int) -> Floats:
    """(settings, questions) float64; NaN where halving did not ask."""
    figures = np.full((len(recipes), len(sweeper.questions)), np.nan)
    going = list(range(len(recipes)))
    rounds = halving(len(recipes), len(sweeper.questions), seed=seed) if by == HALVING else iter([None])
    asked = np.zeros(0, np.int64)
    for rows in rounds:
        new = None if rows is None else np.setdiff1d(rows, asked)
        bars.start("try settings" if rows is None else f"try settings, {len(rows)} questions", len(going), "settings")
        for row in going:
            told = sweeper.figures(recipes[row], wanted, new)
            figures[row] = np.where(np.isnan(told), figures[row], told)
            bars.advance(1)
        if rows is None or len(rows) == len(sweeper.questions):
            break
        asked = rows
        means = np.nanmean(figures[going], axis=1)
        best = np.argsort(-means, kind="stable")[: max(1, int(np.ceil(KEPT * len(going))))]
        # What there is now stays to the end, to be compared with.
        going = sorted({0, *(going[place] for place in best.tolist())})
    return figures


def _print(
    axes: list[Axis], rows: Rows, figures: Floats, near: list[list[int]], found: Chosen, wanted: Figure
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
