"""Loading the demo into a workspace, and a link for the first person in."""

import json
from collections.abc import Sequence
from pathlib import Path

from django.contrib.auth.models import User
from django.db import transaction

from doppio.command.demo_person import PERSON
from doppio.command.kernels import dense_alone
from doppio.core.errors import DocumentError
from doppio.core.formats.beside import pages_of
from doppio.core.formats.bounded import BoundedReader
from doppio.core.formats.documents import SOURCES, is_known, read_bytes, read_sources
from doppio.core.formats.optical import EDITION, ReadLine
from doppio.core.formats.questions import read_questions
from doppio.core.measure.ledger import DELIVERED
from doppio.core.progress import Progress, Silent
from doppio.core.recipe.check import read_recipe
from doppio.core.reranking.kind import offered
from doppio.library.corpus import core_documents
from doppio.library.events import BY_HAND
from doppio.library.files import PageReadings, file_digest
from doppio.library.intake import REFUSED, take_file
from doppio.library.models import Workspace
from doppio.library.services import remove_documents
from doppio.questions.services import load_questions
from doppio.recipes.builds import build, is_built, models
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import core_recipe, save_recipe
from doppio.trials.services import latest_trial, measure_recipe, start_trial

NAME = "Brackenhorn Ropeways"
# A workspace of its own: its pictures are read in the background, and the figures of the first one stay as they are.
DRAWINGS, DRAWINGS_FOLDER = "Brackenhorn drawings", "drawings"
DRAWN_RECIPES = ("text-alone", "pages-by-patches", "with-pictures")
RECIPES = (
    "sparse-alone", "dense-alone", "fixed-window", "two-branch-1", "two-branch-2", "two-branch-3",
    "three-branch-1", "outline-in-context-1", "outline-in-context-2",
)  # fmt: skip


def load_demo(
    folder: Path, recipes: Sequence[str] = RECIPES, *, name: str = NAME, progress: Progress | None = None
) -> str:
    """Load the demo's documents, questions and recipes, the last of them in force; what is there is kept."""
    with transaction.atomic():
        user, _ = User.objects.get_or_create(username=PERSON)
        workspace, created = Workspace.objects.get_or_create(name=name)
        workspace.members.add(user)
        added = _documents(workspace, folder / "documents", progress or Silent())
        documents = {document.id: document for document in core_documents(workspace)}
        questions = read_questions(folder / "questions.jsonl", documents)
        # What people made of them is not written over.
        fresh = not workspace.events.filter(kind__in=BY_HAND).exists() and load_questions(workspace, questions)
        if not workspace.recipes.exists():
            for path in (folder / "recipes" / f"{recipe}.json" for recipe in recipes):
                if path.exists():
                    save_recipe(workspace, read_recipe(path).body, user=user)
    if not created and not added and not fresh:
        return "there"
    return f"{added} documents added, {len(questions)} questions, {workspace.recipes.count()} recipes"


def encode_in_force() -> str:
    """Cut the documents as the recipe in force does, and make the vectors of its chunks."""
    recipe = RecipeVersion.objects.select_related("workspace").get(workspace__name=NAME, in_force=True)
    core = core_recipe(recipe)
    # Other scorers may not be there yet; what they read of the index is what these keep.
    keep = sorted(one.name for kind, one in offered(models) if kind.makers)
    own = [use for use in core.scorers if use["scorer"] in keep]
    if core.scorers and not own:
        own = [{"scorer": name, "weight": 1} for name in keep]
    kept = {"shortlist": core.passed_by_fusion, "scorers": own} if own else None
    pipeline = build(recipe.workspace, dense_alone(recipe.body, kept), Silent())
    return f"vectors of {len(pipeline.chunks):,} chunks made"


def measure_in_force(progress: Progress) -> str:
    """Build and measure the recipe in force, where it has no trial on the present documents."""
    recipe = RecipeVersion.objects.get(workspace__name=NAME, in_force=True)
    trial = latest_trial(recipe)
    name, fresh = f"{recipe.name} v{recipe.version}", trial is None
    trial = trial or measure_recipe(recipe, progress)
    delivered = f"{trial.ledger[DELIVERED]} of {trial.answerable} questions delivered"
    return f"{name} measured, {delivered}" if fresh else f"{name}, {delivered}"


def load_drawings(folder: Path) -> str:
    """Load the workspace of drawings and scanned sheets, where the demo has it."""
    if not (folder / DRAWINGS_FOLDER).is_dir():
        return "there is none"
    return load_demo(folder / DRAWINGS_FOLDER, DRAWN_RECIPES, name=DRAWINGS)


def queue_others() -> int:
    """Have the worker measure all recipes that have no trial on the present documents, or are not built any more.

    Returns how many. To see what is built takes opened models, so it waits until nobody waits for it.
    """
    recipes = (
        RecipeVersion.objects.filter(workspace__name__in=(NAME, DRAWINGS))
        .select_related("workspace")
        .order_by("workspace", "-in_force", "pk")
    )
    waiting = [
        recipe
        for recipe in recipes
        if latest_trial(recipe) is None or not is_built(recipe.workspace, core_recipe(recipe))
    ]
    for recipe in waiting:
        start_trial(recipe, None)
    return len(waiting)


def _documents(workspace: Workspace, folder: Path, progress: Progress) -> int:
    """Bring the workspace's documents in line with the folder; returns how many were added.

    Where somebody brought in documents, those that the folder does not have stay: they may be theirs.
    """
    added = 0
    paths = sorted(path for path in folder.rglob("*") if path.is_file() and is_known(path.name))
    sources = folder / SOURCES
    fields = read_sources(sources.read_bytes(), sources.name) if sources.exists() else {}
    progress.start("read documents", len(paths), "files")
    names = {path.relative_to(folder).as_posix() for path in paths if path != sources}
    pages, shown = pages_of(sorted(names), lambda name: read_bytes(folder / name))
    names -= shown
    with BoundedReader() as reader:
        for path in paths:
            name = path.relative_to(folder).as_posix()
            if name in names:
                _lay_readings(folder, path)
                data = pages.get(name) or read_bytes(path)
                taken = take_file(workspace, name, data, reader, fields.get(name))
                if taken.state == REFUSED:
                    raise DocumentError(f"{name}: {taken.reason}")
                added += taken.counts.get("added", 0)
            progress.advance(1)
    if not workspace.imports.exists():
        gone = workspace.documents.exclude(file__name__in=names)
        remove_documents(workspace, list(gone.values_list("pk", flat=True)))
    return added


def _lay_readings(folder: Path, path: Path) -> None:
    """What was read off the scanned pages of a file when the demo was made, so that nobody waits for it again."""
    kept = folder.parent / "readings" / f"{path.name}.json"
    if not kept.exists():
        return
    body = json.loads(kept.read_text())
    if body["edition"] == EDITION:
        readings = PageReadings(file_digest(path.read_bytes()))
        for page, lines in body["pages"].items():
            readings.put(int(page), [ReadLine.from_json(line) for line in lines])
