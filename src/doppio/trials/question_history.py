"""A question over its trials: what became of it, and what had changed since the one before."""

from typing import Any

from doppio.core.recipe.differences import differences
from doppio.questions.models import Question
from doppio.recipes.services import core_recipe
from doppio.trials.models import TrialRow

MOST = 40


def question_history(question: Question) -> list[dict[str, Any]]:
    """The last trials that asked a question, the latest first; one query, however many there are.

    Each is told beside the last one before it of a recipe of the same name, or of any where there is none: which
    settings are otherwise, and whether documents or labels changed meanwhile. Where the ending moved and nothing of
    these did, the code or a model did.
    """
    rows = TrialRow.objects.filter(question=question).order_by("-trial_id").defer("trace", "trial__stages")
    found = list(rows.select_related("trial__recipe__workspace")[: MOST + 1])
    bodies = {row.trial.recipe_id: core_recipe(row.trial.recipe).body for row in found}
    told = []
    for place, row in enumerate(found[:MOST]):
        trial, older = row.trial, found[place + 1 :]
        alike = (one for one in older if one.trial.recipe.name == trial.recipe.name)
        before = next(alike, older[0] if older else None)
        told.append(
            {
                "trial": trial.pk,
                "recipe": _named(row),
                "measured_at": trial.measured_at,
                "cause": row.cause,
                "ranks": row.ranks,
                "moved": before is not None and (before.cause, before.ranks) != (row.cause, row.ranks),
                "beside": before and _named(before),
                "ranks_before": before.ranks if before else {},
                "settings": []
                if before is None
                else [one._asdict() for one in differences(bodies[before.trial.recipe_id], bodies[trial.recipe_id])],
                "documents": before is not None and before.trial.corpus != trial.corpus,
                "labels": before is not None and before.trial.marked != trial.marked,
                "code": before is not None and _made_otherwise(before.trial.origin, trial.origin),
            }
        )
    return told


def _named(row: TrialRow) -> str:
    return f"{row.trial.recipe.name} v{row.trial.recipe.version}"


def _made_otherwise(before: dict[str, Any], now: dict[str, Any]) -> bool:
    """Whether code, packages, or a model that both used are others; trials from before it was kept do not say it."""
    if not before or not now:
        return False
    models = before.get("models", {}), now.get("models", {})
    same = all(models[0][name] == models[1][name] for name in models[0].keys() & models[1].keys())
    return not same or any(before.get(name) != now.get(name) for name in ("code", "packages"))
