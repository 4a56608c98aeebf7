"""Recipes against each other: every difference with its interval, and what is within noise is called that."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from django.db.models import Prefetch

from doppio.core.errors import DoppioError
from doppio.core.measure.comparing import LEVEL, Difference, Floats, compare, holm, in_words, mean_intervals
from doppio.core.measure.measuring import EDITION
from doppio.core.measure.questions import wording_groups
from doppio.core.measure.steadiness import spreads, steadier
from doppio.library.corpus import corpus_of
from doppio.library.models import Workspace
from doppio.questions.models import AnswerSpan, Question, QuestionSet
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe, stage_kinds
from doppio.trials.breakdown import Share, breakdown
from doppio.trials.figures import RANKING, Figures, read, read_run_figures
from doppio.trials.models import OutsideRun, TrialFigures, TrialRecord, TrialRow
from doppio.trials.services import newest_trials

CHUNKS = "chunks"
NOT_BY_QUESTION = "One of them was measured before figures were kept by question; measure it again."
# Stages in the order of the line, by their kinds; branches stand beside each other.
LAST = ("fused", "reranked", "context")
# Groups of wordings that are shown, those furthest apart first.
WORST = 8


@dataclass(frozen=True)
class Measure:
    """What is compared: a metric after a stage, which is told by its kind and its number among those of it."""

    metric: str
    kind: str = "context"
    nth: int = 0

    def stage(self, recipe: RecipeVersion) -> str | None:
        """How a recipe calls the stage; None where it has none such."""
        kinds = stage_kinds(core_recipe(recipe))
        own = [stage for stage, kind in kinds.items() if kind == self.kind]
        return own[self.nth] if self.nth < len(own) else None


@dataclass(frozen=True)
class Column:
    """The measured questions of a workspace, or those of one of its sets."""

    workspace: Workspace
    set: QuestionSet | None
    questions: Sequence[Question]


@dataclass(frozen=True)
class Cell:
    """A recipe in a column; None where it was not measured there. `low` to `high` is the interval of its mean."""

    mean: float | None = None
    low: float | None = None
    high: float | None = None
    questions: int = 0
    trial: int | None = None
    current: bool = False
    best: bool = False
    near_best: bool = False
    difference: Difference | None = None
    holm: float | None = None
    said: str = ""


@dataclass(frozen=True)
class Compared:
    """A row: a recipe, or a ranking from elsewhere."""

    title: str
    recipe: RecipeVersion | None = None
    run: OutsideRun | None = None


@dataclass(frozen=True)
class Measured:
    """What a row was measured to do in one workspace; a ranking from elsewhere has no trial and one stage alone."""

    table: Figures
    stand: tuple[str, int, int]
    trial: TrialRecord | None = None

    def values(self, measure: Measure, questions: Sequence[Question]) -> Floats:
        if self.trial is not None:
            return _values(self.table, measure, self.trial.recipe, questions)
        found = self.table.of(RANKING, measure.metric)
        return np.array([found.get(question.pk, np.nan) for question in questions], np.float64)


@dataclass(frozen=True)
class Comparison:
    """A table of recipes, and of rankings from elsewhere, against columns.

    costs : what each recipe costs in the first workspace, see `TrialFigures`; empty where it was not measured there
    lacking : trials from before figures were kept question by question
    """

    rows: Sequence[Compared]
    costs: Sequence[Mapping[str, float]]
    columns: Sequence[Column]
    cells: Sequence[Sequence[Cell]]
    baseline: RecipeVersion | None
    metrics: Sequence[str]
    lacking: Sequence[TrialRecord] = field(default_factory=tuple)


def comparison(spaces: Sequence[Workspace], measure: Measure, baseline: int | None) -> Comparison:
    """Compare the newest trials of every recipe.

    Parameters
    ----------
    spaces : workspaces, whose recipes are the same one where their settings are
    measure : what is compared
    baseline : a recipe of the first workspace; the one in force where it is None

    Raises
    ------
    DoppioError
        If no recipe measured here is the baseline.
    """
    newest = [trial for space in spaces for trial in newest_trials(space).select_related("figures")]
    lacking = [trial for trial in newest if not hasattr(trial, "figures")]
    known = [trial for trial in newest if hasattr(trial, "figures")]
    rows: dict[str, Compared] = {}
    of: dict[tuple[int, str], Measured] = {}
    for trial in known:
        recipe = trial.recipe
        rows.setdefault(recipe.fingerprint, Compared(f"{recipe.name} v{recipe.version}", recipe))
        of.setdefault((trial.workspace_id, recipe.fingerprint), Measured(read(trial.figures), _stand(trial), trial))
    against = _baseline(spaces[0], rows, baseline)
    for run in OutsideRun.objects.filter(workspace__in=spaces).defer("text").order_by("name"):
        key = f"run {run.pk}"
        rows[key] = Compared(run.name, run=run)
        of[run.workspace_id, key] = Measured(read_run_figures(run), _stand(run))
    columns = [column for space in spaces for column in _columns(space)]
    now = {space.pk: (corpus_of(space), space.marked, EDITION) for space in spaces}
    by_column = []
    for column in columns:
        there = {key: of[column.workspace.pk, key] for key in rows if (column.workspace.pk, key) in of}
        by_column.append(_cells(column, rows, against, there, measure, now))
    cells = [[column[place] for column in by_column] for place in range(len(rows))]
    metrics = list(dict.fromkeys(name for one in of.values() for name in one.table.metrics))
    costs = [of[spaces[0].pk, key].table.costs if (spaces[0].pk, key) in of else {} for key in rows]
    return Comparison(list(rows.values()), costs, columns, cells, against, metrics, lacking)


def _baseline(space: Workspace, rows: Mapping[str, Compared], number: int | None) -> RecipeVersion | None:
    if number is None:
        known = (row.recipe for row in rows.values())
        return next((row for row in known if row and row.workspace_id == space.pk and row.in_force), None)
    found = space.recipes.filter(pk=number).first()
    if found is None or found.fingerprint not in rows:
        raise DoppioError(f"baseline: no recipe {number} has been measured here since figures are kept by question")
    return rows[found.fingerprint].recipe


def _columns(space: Workspace) -> list[Column]:
    """All questions, and where there are several sets, those of each."""
    questions = list(
        space.questions.filter(set__measured=True).only("pk", "set_id", "group", "workspace_id").order_by("position")
    )
    sets = [row for row in space.question_sets.filter(measured=True) if any(q.set_id == row.pk for q in questions)]
    found = [Column(space, None, questions)]
    if len(sets) > 1:
        found += [Column(space, row, [q for q in questions if q.set_id == row.pk]) for row in sets]
    return found


def _cells(
    column: Column,
    rows: Mapping[str, Compared],
    against: RecipeVersion | None,
    measured: Mapping[str, Measured],
    measure: Measure,
    now: Mapping[int, tuple[str, int, int]],
) -> list[Cell]:
    keys = list(rows)
    values = np.full((len(keys), len(column.questions)), np.nan)
    for place, key in enumerate(keys):
        if key in measured:
            values[place] = measured[key].values(measure, column.questions)
    told = (~np.isnan(values)).sum(axis=1)
    means = [float(np.nanmean(row)) if count else None for row, count in zip(values, told, strict=True)]
    cells = [Cell(mean, questions=int(count)) for mean, count in zip(means, told.tolist(), strict=True)]
    there = [place for place, mean in enumerate(means) if mean is not None]
    for place in there:
        own = measured[keys[place]]
        trial = own.trial.pk if own.trial else None
        cells[place] = replace(cells[place], trial=trial, current=own.stand == now[column.workspace.pk])
    if not there:
        return cells
    groups = wording_groups(column.questions)
    for place, (low, high) in zip(there, mean_intervals(values[there], groups=groups), strict=True):
        cells[place] = replace(cells[place], low=low, high=high)
    best = max(there, key=lambda place: means[place] or 0.0)
    others = [place for place in there if place != best]
    near = holm([found.p for found in compare(values, [(place, best) for place in others], groups=groups)])
    for place, p in zip(others, near, strict=True):
        cells[place] = replace(cells[place], near_best=p >= LEVEL)
    cells[best] = replace(cells[best], best=True, near_best=True)
    start = keys.index(against.fingerprint) if against else -1
    if start not in there:
        return cells
    others = [place for place in there if place != start]
    found = compare(values, [(start, place) for place in others], groups=groups)
    for place, difference, p in zip(others, found, holm([one.p for one in found]), strict=True):
        cells[place] = replace(cells[place], difference=difference, holm=p, said=in_words(difference, p))
    return cells


def measured(trial: TrialRecord) -> Measured | None:
    """What a trial was measured to do; None for one from before figures were kept question by question."""
    kept = TrialFigures.objects.filter(trial=trial).first()
    return Measured(read(kept), _stand(trial), trial) if kept else None


def _stand(row: TrialRecord | OutsideRun) -> tuple[str, int, int]:
    """The documents, labels and metrics that figures are of."""
    return row.corpus, row.marked, row.measures


def difference(before: Floats, after: Floats, questions: Sequence[Question]) -> Difference:
    """What figures gain over the same questions, with rewordings together."""
    (found,) = compare(np.stack([before, after]), [(0, 1)], groups=wording_groups(questions))
    return found


def _values(table: Figures, measure: Measure, recipe: RecipeVersion, questions: Sequence[Question]) -> Floats:
    stage = measure.stage(recipe)
    found = table.of(stage, measure.metric) if stage else {}
    return np.array([found.get(question.pk, np.nan) for question in questions], np.float64)


@dataclass(frozen=True)
class Pair:
    """A question under two recipes; `parts` is the first stage after which its answer is in play in one alone."""

    question: Question
    before: float
    after: float
    causes: tuple[str, str]
    parts: str


@dataclass(frozen=True)
class Wordings:
    """A question in several wordings: the ranks of its answer under each recipe, None where it was not found."""

    texts: Sequence[str]
    before: Sequence[int | None]
    after: Sequence[int | None]


@dataclass(frozen=True)
class Steadiness:
    """How far apart ranks are over wordings, as means over groups; smaller is steadier. `worst`: furthest apart."""

    groups: int
    before: float
    after: float
    gain: Difference
    said: str
    worst: Sequence[Wordings]


@dataclass(frozen=True)
class Both:
    """Two trials over the questions that both have a figure for."""

    pairs: Sequence[Pair]
    whole: Difference
    shares: Sequence[Share]
    steadiness: Steadiness | None


def by_question(first: TrialRecord, second: TrialRecord, measure: Measure) -> Both:
    """Two trials question by question, the largest change first; all of it together, and by what questions share.

    Raises
    ------
    DoppioError
        If one was measured before figures were kept question by question.
    """
    tables = [found for found in map(measured, (first, second)) if found]
    if len(tables) < 2:
        raise DoppioError(NOT_BY_QUESTION)
    labels = Prefetch("spans", AnswerSpan.objects.filter(grade__gt=0).select_related("document"))
    rows = first.workspace.questions.filter(set__measured=True).select_related("set").prefetch_related(labels)
    questions = list(rows.order_by("position"))
    values = np.stack([table.values(measure, questions) for table in tables])
    whole = difference(values[0], values[1], questions)
    ends = [_ends(trial) for trial in (first, second)]
    kinds = [stage_kinds(core_recipe(trial.recipe)) for trial in (first, second)]
    found = []
    for question, (before, after) in zip(questions, values.T.tolist(), strict=True):
        if np.isnan(before) or np.isnan(after) or not all(question.pk in own for own in ends):
            continue
        (cause, play), (other, others) = (own[question.pk] for own in ends)
        found.append(Pair(question, before, after, (cause, other), _parts(play, others, kinds)))
    pairs = sorted(found, key=lambda row: -abs(row.after - row.before))
    shares = breakdown(questions, values[0], values[1])
    return Both(pairs, whole, shares, _steadiness((first, second), measure, questions))


def _steadiness(trials: Sequence[TrialRecord], measure: Measure, questions: Sequence[Question]) -> Steadiness | None:
    """None where no question has another wording, or a trial has no such stage."""
    groups = wording_groups(questions)
    ranks = []
    for trial in trials:
        stage = measure.stage(trial.recipe)
        known = dict(TrialRow.objects.filter(trial=trial).values_list("question", "ranks"))
        asked = [place for place, question in enumerate(questions) if question.pk in known]
        if stage is None:
            return None
        ranks.append({place: known[questions[place].pk].get(stage) for place in asked})
    both = sorted(ranks[0].keys() & ranks[1].keys())
    own = groups[both] if both else groups[:0]
    first, second = (spreads([found[place] for place in both], own) for found in ranks)
    gain = steadier(first, second)
    if gain is None:
        return None
    worst = sorted(zip(first, second, strict=True), key=lambda pair: -max(one.spread for one in pair))[:WORST]
    return Steadiness(
        len(first),
        float(np.mean([one.spread for one in first])),
        float(np.mean([one.spread for one in second])),
        gain,
        in_words(gain, gain.p),
        [
            Wordings([questions[both[row]].text for row in one.members], one.ranks, other.ranks)
            for one, other in worst
        ],
    )


def _ends(trial: TrialRecord) -> dict[int, tuple[str, dict[str, bool]]]:
    rows = TrialRow.objects.filter(trial=trial).values_list("question", "cause", "in_play")
    return {question: (cause, in_play) for question, cause, in_play in rows}


def _parts(first: Mapping[str, bool], second: Mapping[str, bool], kinds: Sequence[Mapping[str, str]]) -> str:
    """The kind of the first stage after which an answer is in play in one alone; empty where that is nowhere."""
    play = [_by_kind(own, names) for own, names in zip((first, second), kinds, strict=True)]
    branches = sorted({kind for own in play for kind in own} - {CHUNKS, *LAST})
    for kind in (CHUNKS, *branches, *LAST):
        if all(kind in own for own in play) and play[0][kind] != play[1][kind]:
            return kind
    return ""


def _by_kind(play: Mapping[str, bool], kinds: Mapping[str, str]) -> dict[str, bool]:
    found: dict[str, bool] = {}
    for stage, still in play.items():
        kind = kinds.get(stage, stage)
        found[kind] = found.get(kind, False) or still
    return found
