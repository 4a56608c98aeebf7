"""Fitted scorers of a workspace: kept as records, and as folders where recipes find them."""

from collections.abc import Iterator, Mapping
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.utils.dateparse import parse_datetime

from doppio.core.models.fitted_folder import PREFIX, FittedFolder, named, write_fitted
from doppio.core.models.folder import MANIFEST
from doppio.core.models.registry import Models
from doppio.core.reranking.kind import uses_of
from doppio.library.carrying import People, Row, carried, fields_of
from doppio.library.models import Workspace
from doppio.recipes.models import FittedScorer, RecipeVersion


@transaction.atomic
def keep(
    recipe: RecipeVersion, body: Mapping[str, Any], figures: Mapping[str, Any], user: User | None, models: Models
) -> FittedScorer:
    """Keep weights as the next version; those that are there already are the same one."""
    workspace = Workspace.objects.select_for_update().get(pk=recipe.workspace_id)
    name = named(body)
    known = workspace.fitted_scorers.filter(name=name).first()
    if known is None:
        newest = workspace.fitted_scorers.first()
        version = newest.version + 1 if newest else 1
        body = {**body, "title": f"fitted to labels, v{version}"}
        known = FittedScorer.objects.create(
            workspace=workspace, name=name, version=version, recipe=recipe, body=body, figures=figures, made_by=user
        )
    _write(known, models)
    return known


def at_hand(recipe_body: Mapping[str, Any], workspace: int, models: Models) -> None:
    """Write the folders of fitted scorers that a recipe names, where they are not there: a backup brings records."""
    if not recipe_body.get("rerank"):
        return
    for use in uses_of(recipe_body["rerank"]):
        name = str(use.get("scorer", ""))
        if name.startswith(PREFIX) and not (models.root / name / MANIFEST).is_file():
            known = FittedScorer.objects.filter(workspace=workspace, name=name).first()
            if known is not None:
                _write(known, models)


def _write(scorer: FittedScorer, models: Models) -> None:
    write_fitted(models.root, FittedFolder.from_json(scorer.name, scorer.body, scorer.name))


class Scorers:
    """What a workspace's file holds of them."""

    name = "fitted-scorers"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        for row in workspace.fitted_scorers.order_by("version").select_related("made_by"):
            yield {
                "name": row.name, "version": row.version, "body": row.body, "figures": row.figures,
                "made_by": row.made_by.get_username() if row.made_by else None, "made_at": row.made_at.isoformat(),
            }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        for row in rows:
            # Weights that are not what they are called would be taken for others.
            if named(row["body"]) != row["name"]:
                raise ValueError(f"{row['name']!r} is not the name of its weights")
            FittedFolder.from_json(row["name"], row["body"], row["name"])
            made = FittedScorer.objects.create(
                workspace=workspace, made_by=people.of(row["made_by"]),
                **fields_of(row, "name", "version", "body", "figures"),
            )  # fmt: skip
            FittedScorer.objects.filter(pk=made.pk).update(made_at=parse_datetime(row["made_at"]))


def connect() -> None:
    """Register the part."""
    carried(Scorers())
