"""Sweeps: settings of a recipe tried on the workspace's questions, as a job that goes on where it was stopped."""

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db import transaction
from numpy.typing import NDArray
from procrastinate.contrib.django import app

from doppio.core.errors import DoppioError
from doppio.core.fingerprint import fingerprint
from doppio.core.measure.comparing import Floats, in_words
from doppio.core.measure.gate import figure
from doppio.core.measure.questions import Question, wording_groups
from doppio.core.measure.sweep_plan import Plan, plan, with_settings
from doppio.core.measure.sweeper import Sweeper, around, finished
from doppio.core.measure.sweeping import judged, plateau
from doppio.core.progress import Progress
from doppio.core.recipe.recipe import Recipe
from doppio.jobs.models import Job
from doppio.jobs.running import request_cancel
from doppio.library.corpus import core_documents, corpus_of
from doppio.library.models import Workspace
from doppio.library.moment import of_one_moment
from doppio.questions.services import core_questions
from doppio.recipes.builds import builder
from doppio.recipes.cost import cost
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe
from doppio.trials.models import Sweep, SweepRow

KIND = "sweep"
# Fewer questions cannot tell settings apart.
LEAST = 2
# Settings whose building is looked at before a sweep.
LOOKED_AT = 4


@dataclass(frozen=True)
class Wish:
    """What is to be tried: axes as the core reads them, a figure, and how the settings are gone through."""

    axes: Sequence[str]
    figure: str
    by: str
    most: int
    seed: int

    def plan(self, recipe: Recipe) -> Plan:
        """The settings, after a look at the figure.

        Raises
        ------
        DoppioError
            If it cannot be read, or there are no such settings.
        """
        stage = figure(self.figure).stage
        if stage and stage not in recipe.stages:
            raise DoppioError(f"figure: there is no stage {stage!r}; there are {', '.join(recipe.stages)}")
        return plan(recipe, self.axes, by=self.by, most=self.most, seed=self.seed)


@dataclass(frozen=True)
class Outlook:
    """What a sweep will take.

    building : seconds to build what is lacking, by the rates of this machine
    seconds : of asking; None where nothing has been measured to judge by
    """

    settings: int
    questions: int
    builds: int
    building: float
    seconds: float | None


def outlook(recipe: RecipeVersion, wish: Wish) -> Outlook:
    """Look ahead.

    Notes
    -----
    Times are those of the recipe's last trial: branches are searched once for all settings that share theirs, what
    comes after is done for each. What has to be built is looked at for a few of the settings that lack something,
    since each look may cut a sample of the documents, and taken for the others in proportion.
    """
    core = core_recipe(recipe)
    planned = wish.plan(core)
    asked = recipe.workspace.questions.filter(set__measured=True, unanswerable=False).count()
    wanted = builder().lacking(corpus_of(recipe.workspace), planned.recipes)
    lacking = list({one.fingerprint: one for one in wanted.values()}.values())
    looked = [cost(recipe.workspace, one)["seconds"] for one in lacking[:LOOKED_AT]]
    building = sum(looked) * len(lacking) / max(len(looked), 1)
    return Outlook(len(planned.rows), asked, len(wanted), building, _seconds(recipe, planned))


def _seconds(recipe: RecipeVersion, planned: Plan) -> float | None:
    trial = recipe.trials.order_by("-pk").first()
    if trial is None:
        return None
    of = trial.seconds
    found = 0.0
    for place, branch in enumerate(core_recipe(recipe).branches):
        apart = {fingerprint(one.chunking, one.branches[place]) for one in planned.recipes}
        found += of.get(branch["id"], 0.0) * len(apart)
    chunkings = {fingerprint(one.chunking) for one in planned.recipes}
    found += of.get("encode question", 0.0) * len(chunkings)
    later = sum(of.get(stage, 0.0) for stage in ("fused", "context"))
    # What scorers said of a pair is kept, so a shortlist is scored once for each chunking.
    return found + later * len(planned.rows) + of.get("reranked", 0.0) * len(chunkings)


@transaction.atomic
def start(recipe: RecipeVersion, wish: Wish, user: User | None) -> Sweep:
    """Record a sweep and queue it.

    Raises
    ------
    DoppioError
        If it cannot be done; says why.
    """
    space = recipe.workspace
    wish.plan(core_recipe(recipe))
    sweep = Sweep.objects.create(
        workspace=space,
        recipe=recipe,
        axes=list(wish.axes),
        figure=wish.figure,
        by=wish.by,
        most=wish.most,
        seed=wish.seed,
        corpus=corpus_of(space),
        marked=space.marked,
        made_by=user,
    )
    return _queue(sweep, user)


def _queue(sweep: Sweep, user: User | None) -> Sweep:
    title = f"Sweep {sweep.recipe.name} v{sweep.recipe.version}"
    details = {"sweep": sweep.pk, "recipe": sweep.recipe_id}
    sweep.job = Job.objects.create(
        workspace=sweep.workspace, kind=KIND, title=title, details=details, started_by=user
    )
    sweep.save(update_fields=["job"])
    app.configure_task(KIND).defer(job=sweep.job.pk)
    return sweep


@transaction.atomic
def go_on(sweep: Sweep, user: User | None) -> Sweep:
    """Queue a sweep again that was cancelled or failed; what was tried stays.

    Raises
    ------
    DoppioError
        If it is done, or what was tried no longer stands for the documents and labels.
    """
    sweep = Sweep.objects.select_for_update(of=("self",)).select_related("workspace", "recipe").get(pk=sweep.pk)
    if sweep.job and sweep.job.state in (Job.QUEUED, Job.RUNNING) and not sweep.job.cancel_requested:
        return sweep
    if sweep.found:
        raise DoppioError("This sweep has tried everything.")
    _same(sweep)
    return _queue(sweep, user)


def _same(sweep: Sweep) -> None:
    if (corpus_of(sweep.workspace), sweep.workspace.marked) != (sweep.corpus, sweep.marked):
        raise DoppioError("Documents or labels have changed since this sweep began. Start it anew.")


def remove(sweep: Sweep) -> None:
    """Remove a sweep; one that runs is cancelled."""
    if sweep.job and sweep.job.state in (Job.QUEUED, Job.RUNNING):
        request_cancel(sweep.job)
    sweep.delete()


def run(job: Job, progress: Progress) -> Sweep:
    """Try what has not been tried, and choose.

    Raises
    ------
    DoppioError
        If the sweep has been removed, the documents or labels have changed, or there are too few questions.
    """
    sweep = Sweep.objects.filter(pk=job.details["sweep"]).select_related("workspace", "recipe").first()
    if sweep is None:
        raise DoppioError("This sweep has been removed.")
    space = sweep.workspace
    with of_one_moment():
        space.refresh_from_db(fields=["marked"])
        _same(sweep)
        documents, questions = core_documents(space), core_questions(space)
    base = core_recipe(sweep.recipe)
    planned = wish_of(sweep).plan(base)
    sweeper = Sweeper(builder(progress), documents, questions)
    if len(sweeper.questions) < LEAST:
        raise DoppioError(
            f"Only {len(sweeper.questions)} questions have an answer; {LEAST} are needed to choose anything by."
        )
    sweep.questions = [question.id for question in sweeper.questions]
    sweep.save(update_fields=["questions"])
    figures = np.full((len(planned.rows), len(sweep.questions)), np.nan)
    for known in sweep.rows.all():
        figures[known.place] = unpacked(known.values)
    for row in sweeper.tried(planned, figure(sweep.figure), figures, progress, seed=sweep.seed):
        _keep(sweep, row, planned.rows[row], figures[row])
    sweep.found = _chosen(sweep, planned, figures, sweeper.questions)
    sweep.save(update_fields=["found"])
    return sweep


def wish_of(sweep: Sweep) -> Wish:
    """What a sweep tries."""
    return Wish(sweep.axes, sweep.figure, sweep.by, sweep.most, sweep.seed)


def _keep(sweep: Sweep, place: int, settings: Mapping[str, Any], values: Floats) -> None:
    asked = int((~np.isnan(values)).sum())
    SweepRow.objects.update_or_create(
        sweep=sweep,
        place=place,
        defaults={
            "settings": settings,
            "values": zlib.compress(values.astype("<f4").tobytes(), 1),
            "mean": float(np.nanmean(values)) if asked else None,
            "asked": asked,
        },
    )


def unpacked(values: bytes | memoryview) -> NDArray[np.float32]:
    """What the questions gave under a row's settings."""
    return np.frombuffer(zlib.decompress(bytes(values)), "<f4")


def _chosen(sweep: Sweep, planned: Plan, figures: Floats, questions: Sequence[Question]) -> dict[str, Any]:
    there = finished(figures)
    near = around(planned, there)
    table = figures[there]
    found = judged(table, near, wording_groups(questions), seed=sweep.seed)
    heights = plateau(np.nanmean(table, axis=1), near)
    return {
        "chosen": int(there[found.best]),
        "flattering": found.flattering,
        "honest": found.honest,
        "against": vars(found.against),
        "said": in_words(found.against, found.against.p),
        "picked": [int(there[row]) for row in found.picked],
        "heights": dict(zip(map(str, there.tolist()), heights.tolist(), strict=True)),
    }


def recipe_with(sweep: Sweep, place: int) -> dict[str, Any]:
    """The body of the sweep's recipe with the settings of one of its rows.

    Raises
    ------
    SweepRow.DoesNotExist
        If it has no such row.
    """
    row = sweep.rows.get(place=place)
    return with_settings(core_recipe(sweep.recipe), row.settings).body


def of_workspace(space: Workspace) -> Sequence[Sweep]:
    """The sweeps of a workspace, newest first."""
    return list(space.sweeps.select_related("recipe", "job", "workspace"))
