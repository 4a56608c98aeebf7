"""A recipe built and measured over the labelled questions of its workspace."""

from collections.abc import Mapping
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from doppio.core.measure.measuring import EDITION
from doppio.core.measure.trial import Trial, run_trial
from doppio.core.progress import Progress
from doppio.jobs.models import Job
from doppio.library.corpus import Corpus, corpus_now, corpus_of
from doppio.library.models import Workspace
from doppio.library.moment import of_one_moment
from doppio.questions.services import BATCH, core_questions
from doppio.recipes.builds import build, builder
from doppio.recipes.models import RecipeVersion
from doppio.recipes.queueing import queue_job
from doppio.recipes.services import core_recipe
from doppio.trials import figures
from doppio.trials.models import TrialRecord, TrialRow
from doppio.trials.origin import origin_of
from doppio.trials.prices import paid
from doppio.trials.signals import recorded


def measure_in_force(sender: object, workspace: Workspace, **_: object) -> None:
    """Build and measure the recipe in force once the documents have changed."""
    recipe = workspace.recipes.filter(in_force=True).first()
    if recipe is not None and workspace.documents.exists() and latest_trial(recipe) is None:
        start_trial(recipe, None)


def measure_unless_measured(sender: object, recipe: RecipeVersion, user: User | None, **_: object) -> Job | None:
    """The job that measures a recipe where it has no trial on the present documents."""
    return None if latest_trial(recipe) else start_trial(recipe, user)


def latest_trial(recipe: RecipeVersion) -> TrialRecord | None:
    """The newest trial of a recipe on the present documents and labels."""
    now = recipe.workspace
    return recipe.trials.filter(corpus=corpus_of(now), marked=now.marked).order_by("-pk").first()


def newest_trials(workspace: Workspace) -> QuerySet[TrialRecord]:
    """The newest trial of every recipe with its recipe, newest first."""
    newest = workspace.trials.order_by("recipe_id", "-pk").distinct("recipe_id").values("pk")
    return workspace.trials.filter(pk__in=newest).select_related("recipe").order_by("-pk")


def last_trial(recipe: RecipeVersion) -> TrialRecord | None:
    """The latest trial, or the last of what was before; what has changed since is for the caller to tell."""
    return latest_trial(recipe) or recipe.trials.order_by("-pk").first()


def counted(sender: object, workspace: Workspace, **_: object) -> dict[str, int]:
    """How many trials a workspace holds."""
    return {"trials": workspace.trials.count()}


def start_trial(recipe: RecipeVersion, user: User | None) -> Job:
    """Queue the build and the trial of a recipe; one that waits or runs already is returned instead."""
    title = f"Build and measure {recipe.name} v{recipe.version}"
    return queue_job(recipe, user, kind="trial", title=title)


def measure_recipe(recipe: RecipeVersion, progress: Progress, job: Job | None = None) -> TrialRecord:
    """Build what a recipe lacks, ask all questions, and record the trial."""
    workspace = recipe.workspace
    with of_one_moment():
        # Who changes documents moves their labels in one go.
        workspace.refresh_from_db(fields=["marked"])
        corpus, questions, marked = corpus_now(workspace), core_questions(workspace), workspace.marked
        began = timezone.now().isoformat()
    if job is not None:
        job.details = {**job.details, "corpus": corpus.key, "marked": marked}
        job.save(update_fields=["details"])
    pipeline = build(workspace, core_recipe(recipe), progress, corpus)
    result = run_trial(pipeline, corpus.names, questions, progress=progress)
    core = builder()
    held = sum(row.bytes for row in core.describe(core.keys(corpus.key, core_recipe(recipe))))
    price = paid(pipeline, core.counter(core_recipe(recipe)), result.rows)
    record = _record(
        recipe,
        corpus,
        marked,
        result,
        len(pipeline.chunks),
        {"bytes": float(held), "price": price},
        job,
        {"began": began, **origin_of(pipeline, questions)},
    )
    # What others make of it must not lose it.
    recorded.send_robust(TrialRecord, trial=record, pipeline=pipeline, names=corpus.names)
    return record


@transaction.atomic
def _record(
    recipe: RecipeVersion,
    corpus: Corpus,
    marked: int,
    result: Trial,
    chunks: int,
    costs: Mapping[str, float],
    job: Job | None,
    origin: dict[str, Any],
) -> TrialRecord:
    record = TrialRecord.objects.create(
        workspace=recipe.workspace,
        recipe=recipe,
        job=job,
        corpus=corpus.key,
        marked=marked,
        measures=EDITION,
        documents=len(corpus.names),
        stages=result.stages,
        levels=result.levels,
        ledger=result.ledger,
        seconds=result.seconds,
        chunks=chunks,
        intact=result.intact,
        answerable=result.answerable,
        questions=len(result.rows),
        origin=origin,
        answers=result.answers,
    )
    numbers = dict(recipe.workspace.questions.values_list("identity", "pk"))
    TrialRow.objects.bulk_create(
        [
            TrialRow(
                trial=record,
                question_id=numbers[row.question.id],
                cause=row.cause,
                ranks=row.ranks,
                in_play=row.in_play,
                intact=list(row.relevance.intact),
                trace=row.trace.to_json(),
            )
            for row in result.rows
            # One may have been removed meanwhile.
            if row.question.id in numbers
        ],
        BATCH,
    )
    figures.keep(record, result.rows, numbers, costs)
    return record
