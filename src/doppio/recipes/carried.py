"""What a workspace's file holds of recipes: every version, and which is in force."""

from collections.abc import Iterator

from django.utils.dateparse import parse_datetime

from doppio.core.recipe.check import check
from doppio.library.carrying import People, Row, carried, fields_of
from doppio.library.models import Workspace
from doppio.recipes.models import RecipeVersion


class Recipes:
    """See the module. Models that a recipe names may have to be added here before it can be built."""

    name = "recipes"

    def rows(self, workspace: Workspace) -> Iterator[Row]:
        for row in workspace.recipes.order_by("pk").select_related("saved_by"):
            yield {
                "name": row.name, "version": row.version, "body": row.body, "note": row.note,
                "in_force": row.in_force, "saved_by": row.saved_by.get_username() if row.saved_by else None,
                "saved_at": row.saved_at.isoformat(),
            }  # fmt: skip

    def take(self, workspace: Workspace, rows: Iterator[Row], people: People) -> None:
        for row in rows:
            recipe = check(row["body"])
            made = RecipeVersion.objects.create(
                workspace=workspace, fingerprint=recipe.fingerprint, saved_by=people.of(row["saved_by"]),
                **fields_of(row, "name", "version", "body", "note", "in_force"),
            )  # fmt: skip
            RecipeVersion.objects.filter(pk=made.pk).update(saved_at=parse_datetime(row["saved_at"]))


def connect() -> None:
    """Register the part."""
    carried(Recipes())
