"""The gate of `./doppio trial`: what is compared and checked, and how it is told to people and build servers."""

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from rich import box
from rich.markup import escape
from rich.table import Table

from doppio.command.show import out
from doppio.core.errors import DoppioError
from doppio.core.measure.gate import Check, Compared, Figure, Limit, Told, checks, compared, figure, limit
from doppio.core.measure.ledger import DELIVERED
from doppio.core.measure.measuring import Metrics
from doppio.core.recipe.check import read_recipe
from doppio.core.recipe.recipe import Recipe

RUN = "run"
MOST_LOSSES = 10


@dataclass(frozen=True)
class Wish:
    """What a person asks for.

    recipes : all that are measured; `baseline` is the name of one, or an earlier run, or None
    """

    recipes: Sequence[Recipe]
    baseline: str | Told | None
    figures: Sequence[Figure]
    limits: Sequence[Limit]
    worst: float | None


@dataclass(frozen=True)
class Outcome:
    """What was compared and checked."""

    trials: Sequence[Told]
    baseline: Told | None
    compared: Sequence[Compared] = field(default_factory=tuple)
    checks: Sequence[Check] = field(default_factory=tuple)

    @property
    def open(self) -> bool:
        return all(check.holds for check in self.checks)


def read_wish(
    recipes: Sequence[Path], baseline: Path | None, metrics: Sequence[str], limits: Sequence[str], worst: float | None
) -> Wish:
    """Read what is named on the command line.

    Raises
    ------
    DoppioError
        If something is not what it should be, or losses are to be looked at without a baseline.
    """
    if worst is not None and baseline is None:
        raise DoppioError("--fail-if-worse: needs a --baseline to be worse than")
    if worst is not None and not 0 <= worst < 1:
        raise DoppioError(f"--fail-if-worse: {worst} is not from 0 to below 1")
    read = [read_recipe(path) for path in recipes]
    found: str | Told | None = None
    if baseline is not None:
        earlier = _earlier(baseline)
        if earlier is None:
            own = read_recipe(baseline)
            if own.fingerprint not in {one.fingerprint for one in read}:
                read.append(own)
            found = next(one.name for one in read if one.fingerprint == own.fingerprint)
        else:
            found = earlier
    names = [one.name for one in read]
    if twice := {name for name in names if names.count(name) > 1}:
        raise DoppioError(f"--recipe: two recipes are called {min(twice)!r}; give one of them another name")
    try:
        held = [limit(text) for text in limits]
    except DoppioError as error:
        raise DoppioError(f"--fail-below: {error}") from error
    wanted = [figure(text) for text in metrics] or [one.figure for one in held] or [Figure(DELIVERED)]
    return Wish(read, found, list(dict.fromkeys(wanted)), held, worst)


def _earlier(path: Path) -> Told | None:
    """The trial that an earlier run wrote, the first of several; None where the file is a recipe."""
    try:
        body = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return None
    if not isinstance(body, dict) or not {"by_question", "trials", "ledger"} & set(body):
        return None
    first = body["trials"][0] if body.get("trials") else body
    if "by_question" not in first:
        raise DoppioError(f"{path}: was written before figures were kept by question; run that trial again")
    try:
        name = str(first["recipe"]["name"])
        values = {
            str(stage): {
                str(question): {str(metric): float(value) for metric, value in metrics.items()}
                for question, metrics in rows.items()
            }
            for stage, rows in first["by_question"].items()
        }
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise DoppioError(f"{path}: {error} is missing or is not what --json wrote") from error
    return Told(f"{name} (earlier)", list(values), values)


def told_run(path: Path, metrics: Mapping[str, Metrics]) -> Told:
    """The run of another system; all that it has is one ranking."""
    return Told(path.name, [RUN], {RUN: dict(metrics)})


def judge(wish: Wish, trials: Sequence[Told], others: Sequence[Told]) -> Outcome:
    """Compare and check; runs of other systems are compared and not gated.

    Notes
    -----
    Where nothing is the baseline the first recipe is, if there is something to compare with it.
    """
    baseline = wish.baseline
    if isinstance(baseline, str):
        baseline = next(one for one in trials if one.name == baseline)
    gated = [one for one in trials if one is not baseline]
    if baseline is None and len(trials) + len(others) > 1:
        baseline, gated = trials[0], [one for one in trials if one is not trials[0]]
        limited = list(trials)
    else:
        limited = gated or list(trials)
    found: list[Compared] = []
    if baseline is not None:
        found = compared(gated, baseline, wish.figures)
        beside = [one for one in others if _has_all(one, wish.figures)]
        if len(beside) < len(others):
            lacking = next(one.name for one in others if one not in beside)
            raise DoppioError(f"--beside: {lacking} is a ranking alone; compare it by --metric recall@5 or the like")
        found += compared(beside, baseline, [Figure(one.metric) for one in wish.figures]) if beside else []
    made = checks(limited, wish.limits, [one for one in found if one.name in {t.name for t in gated}], wish.worst)
    return Outcome([*trials, *others], baseline, found, made)


def _has_all(run: Told, figures: Sequence[Figure]) -> bool:
    rows = run.values[RUN].values()
    return all(not rows or any(one.metric in row for row in rows) for one in figures)


def outcome_json(outcome: Outcome) -> dict[str, Any]:
    """What `--json` writes beside the trials."""
    found: dict[str, Any] = {}
    if outcome.baseline is not None:
        found["baseline"] = outcome.baseline.name
        found["compared"] = [
            {
                "name": one.name,
                "figure": str(one.figure),
                "mean": round(one.mean, 6),
                "p": one.p,
                "difference": vars(one.difference),
            }
            for one in outcome.compared
        ]
    if outcome.checks:
        found["gate"] = {"open": outcome.open, "checks": [vars(check) for check in outcome.checks]}
    return found


def show(outcome: Outcome) -> None:
    """Print what was compared and checked."""
    if outcome.baseline is not None and outcome.compared:
        out.print(f"\nAgainst [bold]{escape(outcome.baseline.name)}[/], question by question; larger is better")
        table = Table("recipe", "figure", "mean", "gain", "95 % interval", "p", "better:worse:equal", "",
                      box=box.SIMPLE_HEAD, pad_edge=False)  # fmt: skip
        for one in outcome.compared:
            apart = one.difference
            table.add_row(
                escape(one.name), str(one.figure), f"{one.mean:.3f}", f"{apart.mean:+.3f}",
                f"{apart.low:+.3f} to {apart.high:+.3f}", f"{one.p:.3f}",
                f"{apart.wins}:{apart.losses}:{apart.ties}", one.said,
            )  # fmt: skip
        out.print(table)
        out.print("p by paired randomisation, corrected for all rows (Holm)")
    if outcome.checks:
        out.print("The gate is open" if outcome.open else "[bold red]The gate is closed[/]")
        for check in outcome.checks:
            mark = "holds" if check.holds else "[bold red]fails[/]"
            out.print(f"  {mark}  {escape(check.name)}: {check.what}; {check.said}", highlight=False)


def as_markdown(outcome: Outcome, texts: Mapping[str, str]) -> str:
    """The comparison as Markdown, for a merge request."""
    lines = ["## Retrieval", ""]
    if outcome.checks:
        lines += [f"The gate is **{'open' if outcome.open else 'closed'}**.", "", "| | recipe | check | found |"]
        lines += ["|---|---|---|---|"]
        lines += [
            f"| {'holds' if one.holds else '**fails**'} | {_cell(one.name)} | {_cell(one.what)} | {one.said} |"
            for one in outcome.checks
        ]
        lines.append("")
    if outcome.baseline is None:
        return "\n".join(lines)
    lines += [f"Against {_cell(outcome.baseline.name)}, question by question; larger is better.", ""]
    lines += ["| recipe | figure | mean | gain | 95 % interval | p | better : worse : equal | |"]
    lines += ["|---|---|--:|--:|---|--:|---|---|"]
    for one in outcome.compared:
        apart = one.difference
        lines.append(
            f"| {_cell(one.name)} | {one.figure} | {one.mean:.3f} | {apart.mean:+.3f} | {apart.low:+.3f} to "
            f"{apart.high:+.3f} | {one.p:.3f} | {apart.wins} : {apart.losses} : {apart.ties} | {one.said} |"
        )
    lines += ["", "p by paired randomisation, corrected for all rows (Holm).", ""]
    named = {trial.name: trial for trial in outcome.trials}
    for one in outcome.compared:
        before, after = outcome.baseline.figure(one.figure), named[one.name].figure(one.figure)
        apart_by = sorted((after[q] - before[q], q) for q in after if q in before and after[q] < before[q])
        if apart_by:
            lines += [f"Largest losses of {_cell(one.name)} in {one.figure}:", ""]
            lines += [
                f"- {_cell(texts.get(question, question))} ({before[question]:.3f} to {after[question]:.3f})"
                for _, question in apart_by[:MOST_LOSSES]
            ]
            lines.append("")
    return "\n".join(lines)


def as_junit(outcome: Outcome) -> str:
    """The gate's checks as JUnit XML, which build servers read."""
    failed = sum(not check.holds for check in outcome.checks)
    counts = {"tests": str(len(outcome.checks)), "failures": str(failed), "errors": "0"}
    suites = ElementTree.Element("testsuites", counts)
    suite = ElementTree.SubElement(suites, "testsuite", {"name": "retrieval", **counts})
    for check in outcome.checks:
        case = ElementTree.SubElement(suite, "testcase", {"classname": check.name, "name": check.what})
        if not check.holds:
            ElementTree.SubElement(case, "failure", {"message": check.said})
    ElementTree.indent(suites)
    return ElementTree.tostring(suites, encoding="unicode", xml_declaration=True)


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")
