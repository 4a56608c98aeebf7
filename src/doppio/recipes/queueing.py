"""Work on a recipe, queued once."""

from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from procrastinate.contrib.django import app

from doppio.core.errors import DoppioError
from doppio.jobs.models import Job
from doppio.library.corpus import corpus_of
from doppio.library.models import Workspace
from doppio.recipes.models import RecipeVersion


@transaction.atomic
def queue_job(recipe: RecipeVersion, user: User | None, *, kind: str, title: str, **details: Any) -> Job:
    """Queue work on a recipe for the task of that name; a job of the same that waits or runs is returned instead."""
    space = Workspace.objects.select_for_update().get(pk=recipe.workspace_id)
    waiting = recipe.workspace.jobs.filter(
        kind=kind,
        details__contains={"recipe": recipe.pk, **details},
        state__in=(Job.QUEUED, Job.RUNNING),
        cancel_requested=False,
    ).first()
    # One that runs over documents or labels that have changed since will not say what is wanted: another will.
    now = {"corpus": corpus_of(recipe.workspace), "marked": space.marked}
    if waiting is not None and all(waiting.details.get(name) in (None, state) for name, state in now.items()):
        return waiting
    job = Job.objects.create(
        workspace=recipe.workspace, kind=kind, title=title, details={"recipe": recipe.pk, **details}, started_by=user
    )
    app.configure_task(kind).defer(job=job.pk)
    return job


def newest_job(workspace: Workspace, kind: str, recipe: RecipeVersion | None = None) -> Job | None:
    """The job of a kind that was queued last.

    It is read before what it makes: if it was done by then, its result is seen as well; the other way round
    a page would be told that nothing runs and nothing was found, and would wait for good.
    """
    rows = workspace.jobs.filter(kind=kind)
    return (rows if recipe is None else rows.filter(details__recipe=recipe.pk)).order_by("-pk").first()


def recipe_of(job: Job) -> RecipeVersion:
    """The recipe that a job works on.

    Raises
    ------
    DoppioError
        If it has been removed.
    """
    recipe = RecipeVersion.objects.filter(pk=job.details["recipe"]).select_related("workspace").first()
    if recipe is None:
        raise DoppioError("The recipe of this job has been removed.")
    return recipe
