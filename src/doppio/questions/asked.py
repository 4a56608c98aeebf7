"""Questions that people typed: kept for each person, for a time."""

from datetime import datetime, timedelta

from django.conf import settings
from django.contrib.auth.models import User
from django.utils import timezone

from doppio.core.pipeline import Pipeline
from doppio.core.question.reading import NOTHING_BESIDE, Beside
from doppio.core.trace import Trace
from doppio.questions.models import AskedQuestion
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import answered
from doppio.recipes.services import core_recipe


def ask(
    recipe: RecipeVersion, text: str, user: User | None, beside: Beside = NOTHING_BESIDE
) -> tuple[Pipeline, Trace]:
    """Ask a typed question, and remember for the person that it was asked."""
    pipeline, trace = answered(recipe.workspace, core_recipe(recipe), text, beside)
    if not text.strip():
        # A picture alone is not gone back to by its words.
        return pipeline, trace
    own = AskedQuestion.objects.filter(workspace=recipe.workspace, asked_by=user, text=text)
    if not own.update(asked_at=timezone.now(), recipe=recipe):
        AskedQuestion.objects.create(workspace=recipe.workspace, recipe=recipe, text=text, asked_by=user)
    return pipeline, trace


def forget_asked(sender: object, now: datetime, **_: object) -> None:
    """Throw away typed questions that are older than the settings keep them."""
    AskedQuestion.objects.filter(asked_at__lt=now - timedelta(days=settings.DOPPIO_KEEP_ASKED_DAYS)).delete()
