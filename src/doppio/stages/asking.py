"""What stage views share: the recipe that a request is about, its pipeline, and its chunks."""

from collections.abc import Sequence
from typing import Any, TypeVar

from drf_spectacular.utils import OpenApiParameter
from rest_framework import serializers as s
from rest_framework.request import Request

from doppio.core.branches.kind import kind_of
from doppio.core.errors import RecipeError
from doppio.core.pipeline import Pipeline
from doppio.library.access import workspace_of
from doppio.library.models import Workspace
from doppio.library.texts import RecordedTexts, section_headings
from doppio.recipes.access import recipe_for
from doppio.recipes.models import RecipeVersion
from doppio.recipes.opened import pipelines
from doppio.recipes.services import core_recipe

BRANCH = OpenApiParameter("branch", str, description="A branch by its id; the first of its sort where left out.")
B = TypeVar("B")


def asked_pipeline(request: Request) -> tuple[Workspace, Pipeline]:
    """The workspace and the pipeline that a request is about; whoever may read may ask."""
    space = workspace_of(request)
    return space, pipeline_of(space, request.query_params.get("recipe"))


def pipeline_of(space: Workspace, recipe: int | str | None) -> Pipeline:
    """The opened pipeline of a recipe by its number, or of the one in force."""
    return pipelines.get(space, core_recipe(recipe_for(space, recipe)))


def of_family(pipeline: Pipeline, family: str) -> list[str]:
    """Ids of the branches of a recipe that belong to a block of the line."""
    return [branch["id"] for branch in pipeline.recipe.branches if kind_of(branch).family == family]


def chosen_branch(pipeline: Pipeline, family: str, wanted: str | None) -> str | None:
    """The branch of a family that is asked for, or the first; None where the recipe has none.

    Raises
    ------
    RecipeError
        If one is asked for that is not there.
    """
    known = of_family(pipeline, family)
    if wanted and wanted not in known:
        raise RecipeError(f"branch: {wanted!r} is no {family} branch of this recipe; there are {', '.join(known)}")
    return wanted or next(iter(known), None)


def branch_as(pipeline: Pipeline, identity: str | None, kind: type[B]) -> B | None:
    """The opened branch of that id, if it is of this kind."""
    found = pipeline.branches.get(identity) if identity else None
    return found if isinstance(found, kind) else None


def whole_number(request: Request, name: str, below: int) -> int:
    """A number from the address.

    Raises
    ------
    RecipeError
        If it is not a whole number from 0 up to the bound.
    """
    text = request.query_params.get(name, "")
    if not text.isdecimal() or int(text) >= below:
        raise RecipeError(f"{name}: {text!r} is not between 0 and {below - 1}")
    return int(text)


def asked_recipe(request: Request) -> RecipeVersion:
    """The recipe that a request is about."""
    return recipe_for(workspace_of(request), request.query_params.get("recipe"))


def check_chunk(pipeline: Pipeline, chunk: int) -> None:
    """Whether a number is that of a chunk."""
    if not 0 <= chunk < len(pipeline.chunks):
        raise RecipeError(f"chunk: {chunk} is not between 0 and {len(pipeline.chunks) - 1}")


def brief_chunks(pipeline: Pipeline, numbers: Sequence[int]) -> list[dict[str, Any]]:
    """Where chunks are from, and their texts, in the order asked for; three queries, however many."""
    texts = pipeline.texts
    assert isinstance(texts, RecordedTexts)
    owners = texts.owners(numbers)
    paths = section_headings(set(owners))
    sections, starts = (getattr(pipeline.chunks, name)[list(numbers)].tolist() for name in ("section", "start"))
    rows = zip(numbers, owners, texts.titles(numbers), sections, starts, texts.texts(numbers), strict=True)
    return [
        {
            "number": number, "document": owner, "title": title, "section": paths.get((owner, section), []),
            "start": start, "text": text,
        }
        for number, owner, title, section, start, text in rows
    ]  # fmt: skip


class BriefChunkSerializer(s.Serializer):
    number = s.IntegerField()
    document = s.IntegerField()
    title = s.CharField()
    section = s.ListField(child=s.CharField())
    start = s.IntegerField()
    text = s.CharField()
