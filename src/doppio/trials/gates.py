"""Gates of a workspace: figures that are watched, what each trial did to them, and which documents moved them."""

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from django.utils.dateparse import parse_datetime

from doppio.core.errors import DoppioError
from doppio.core.measure.comparing import LEVEL, Difference, Floats, in_words
from doppio.core.measure.ledger import DELIVERED
from doppio.core.measure.measuring import EDITION
from doppio.core.pipeline import Pipeline
from doppio.core.trace import Trace
from doppio.jobs.models import Job
from doppio.library import events
from doppio.library.models import Workspace
from doppio.questions.models import Question
from doppio.recipes.models import RecipeVersion
from doppio.trials.comparing import Measure, difference, measured
from doppio.trials.figures import read
from doppio.trials.models import Gate, GateResult, TrialRecord, TrialRow
from doppio.trials.services import start_trial

# A figure that moved by less is the same.
SAME = 1e-6
MOST_DOCUMENTS = 20
# Earlier trials that a new gate begins with.
REMEMBERED = 60


def title_of(gate: Gate) -> str:
    """What is watched, in a few words."""
    return gate.metric if gate.metric == DELIVERED else f"{gate.metric} after {gate.stage}"


def recipe_of(gate: Gate) -> RecipeVersion | None:
    """The recipe that is watched now; None where none is in force."""
    return gate.recipe or gate.workspace.recipes.filter(in_force=True).first()


@transaction.atomic
def make(
    space: Workspace,
    user: User,
    *,
    recipe: RecipeVersion | None,
    measure: Measure,
    least: float | None,
    worst: float | None,
    every: int | None,
) -> Gate:
    """Make a gate; the recipe's earlier trials are its history, and the newest of them its baseline.

    Raises
    ------
    DoppioError
        If it watches nothing, or the recipe has no such figure.
    """
    if least is None and worst is None:
        raise DoppioError("A gate needs a figure that may not be fallen below, a loss that is borne, or both.")
    gate = Gate.objects.create(
        workspace=space, recipe=recipe, metric=measure.metric, stage=measure.kind, least=least, worst=worst,
        every=every, made_by=user,
    )  # fmt: skip
    watched = recipe_of(gate)
    if watched is None:
        raise DoppioError("No recipe is in force, so there is nothing to watch.")
    newest = watched.trials.filter(measures=EDITION, figures__isnull=False).order_by("-pk")
    known = list(newest[:REMEMBERED])[::-1]
    if not known:
        raise DoppioError("The recipe has not been measured since figures are kept by question; measure it first.")
    questions = _questions(space)
    for trial in known:
        _look(gate, trial, questions, {})
    if not gate.results.exists():
        named = ", ".join(read(known[-1].figures).metrics)
        raise DoppioError(f"{title_of(gate)}: the recipe has no such figure; its metrics are {named}")
    gate.baseline = known[-1]
    gate.save(update_fields=["baseline"])
    events.note(events.GATE_MADE, who=user, workspace=space, figure=title_of(gate), least=least, worst=worst)
    return gate


def looked_at(sender: object, trial: TrialRecord, pipeline: Pipeline, names: Sequence[str], **_: object) -> None:
    """Hold a new trial against the gates of its recipe."""
    for gate in trial.workspace.gates.select_related("workspace", "recipe", "baseline"):
        watched = recipe_of(gate)
        if watched is None or watched.pk != trial.recipe_id:
            continue
        last = gate.results.select_related("trial").first()
        changed = _changed(gate.workspace, last.trial) if last else {}
        with transaction.atomic():
            found = _look(gate, trial, _questions(gate.workspace), changed, pipeline, names)
            # One that has said nothing yet is open.
            if found is not None and found.open != (last is None or last.open):
                kind = events.GATE_OPENED if found.open else events.GATE_CLOSED
                events.note(kind, workspace=gate.workspace, figure=title_of(gate), reasons=found.reasons)


def _questions(space: Workspace) -> list[Question]:
    rows = space.questions.filter(set__measured=True)
    return list(rows.only("pk", "identity", "text", "set_id", "group", "workspace_id").order_by("position"))


def _look(
    gate: Gate,
    trial: TrialRecord,
    questions: Sequence[Question],
    changed: Mapping[str, str],
    pipeline: Pipeline | None = None,
    names: Sequence[str] = (),
) -> GateResult | None:
    """What a gate says of a trial; None where the trial has no such figure."""
    now = _values(gate, trial, questions)
    told = ~np.isnan(now)
    if not told.any():
        return None
    mean = float(now[told].mean())
    against = _difference(_values(gate, gate.baseline, questions), now, questions)
    last = gate.results.select_related("trial__recipe").first()
    earlier = _values(gate, last.trial if last else None, questions)
    before = _difference(earlier, now, questions)
    # What has no figure in one of them has not moved.
    moved = [question for question, far in zip(questions, np.abs(now - earlier) > SAME, strict=True) if far]
    reasons = []
    if gate.least is not None and mean < gate.least:
        reasons.append(f"{mean:.3f} is below {gate.least:g}")
    if gate.worst is not None and against is not None and against.mean < -gate.worst and against.p < LEVEL:
        reasons.append(f"{-against.mean:.3f} less than the baseline, p {against.p:.3f}; {gate.worst:g} is borne")
    parts = _had_a_part(trial, moved, changed, pipeline, names) if pipeline is not None and before else []
    return GateResult.objects.create(
        gate=gate, trial=trial, mean=mean, questions=int(told.sum()), open=not reasons, reasons=reasons,
        against=_told(against), before=_told(before), documents=parts, moved=len(moved),
    )  # fmt: skip


def _values(gate: Gate, trial: TrialRecord | None, questions: Sequence[Question]) -> Floats:
    """(q,) float64, the figure that is watched; NaN where the trial has none."""
    found = measured(trial) if trial else None
    if found is None:
        return np.full(len(questions), np.nan)
    return found.values(Measure(gate.metric, gate.stage), questions)


def _difference(earlier: Floats, now: Floats, questions: Sequence[Question]) -> Difference | None:
    return None if np.isnan(earlier).all() else difference(earlier, now, questions)


def _told(difference: Difference | None) -> dict[str, Any]:
    return {**vars(difference), "said": in_words(difference, difference.p)} if difference else {}


def _changed(space: Workspace, since: TrialRecord) -> dict[str, str]:
    """Documents that came, changed or went since a trial began, by name with what became of them."""
    began = parse_datetime(str(since.origin.get("began", ""))) or since.measured_at
    found = {
        name: "new" if created > began else "changed"
        for name, created in space.documents.filter(changed_at__gt=began).values_list("name", "created_at")
    }
    gone = space.events.filter(kind=events.DOCUMENTS_REMOVED, at__gt=began).values_list("about", flat=True)
    here = set(space.documents.values_list("name", flat=True))
    return found | {name: "removed" for about in gone for name in about.get("documents", []) if name not in here}


def _had_a_part(
    trial: TrialRecord,
    moved: Sequence[Question],
    changed: Mapping[str, str],
    pipeline: Pipeline,
    names: Sequence[str],
) -> list[dict[str, Any]]:
    """Changed documents, and how many of the moved questions are answered by them or were handed passages of them."""
    answers: Counter[str] = Counter()
    handed: Counter[str] = Counter()
    rows = TrialRow.objects.filter(trial=trial, question__in=[question.pk for question in moved])
    for row in rows.select_related("question").prefetch_related("question__spans__document"):
        own = {span.document.name if span.document else span.document_name for span in row.question.spans.all()}
        last = Trace.from_json(row.trace).stages[-1]
        given = {names[place] for place in pipeline.chunks.document[last.chunks].tolist()}
        answers.update(own & changed.keys())
        handed.update((given - own) & changed.keys())
    order = sorted(changed, key=lambda name: (-answers[name] - handed[name], name))
    return [
        {"name": name, "became": changed[name], "answers": answers[name], "handed": handed[name]}
        for name in order[:MOST_DOCUMENTS]
    ]


def look(gate: Gate, user: User | None) -> Job:
    """Measure what a gate watches.

    Raises
    ------
    DoppioError
        If no recipe is in force.
    """
    recipe = recipe_of(gate)
    if recipe is None:
        raise DoppioError("No recipe is in force, so there is nothing to watch.")
    return start_trial(recipe, user)


def look_after_change(sender: object, workspace: Workspace, **_: object) -> None:
    """Measure recipes that are watched by name once the documents have changed; that in force is measured anyway."""
    if not workspace.documents.exists():
        return
    for gate in workspace.gates.filter(recipe__isnull=False).select_related("recipe"):
        assert gate.recipe is not None
        start_trial(gate.recipe, None)


def look_in_time(sender: object, now: datetime, **_: object) -> None:
    """Measure what the gates watch whose time has come."""
    rows = Gate.objects.filter(every__isnull=False, workspace__removed_at__isnull=True)
    for gate in rows.select_related("workspace", "recipe"):
        recipe = recipe_of(gate)
        last = recipe.trials.order_by("-pk").first() if recipe else None
        if last is not None and last.measured_at > now - timedelta(hours=gate.every or 0):
            continue
        if recipe is not None and gate.workspace.documents.exists():
            start_trial(recipe, None)


@transaction.atomic
def take_baseline(gate: Gate) -> Gate:
    """Let the newest result be what later ones are held against."""
    newest = gate.results.select_related("trial").first()
    gate.baseline = newest.trial if newest else None
    gate.save(update_fields=["baseline"])
    return gate
