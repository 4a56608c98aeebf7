"""Loading the demo into a workspace, and a link for the first person in."""

from pathlib import Path

from django.contrib.auth.models import User
from django.db import transaction

from doppio.asking.services import save_recipe
from doppio.command.show import err, progress_bars
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.recipe import read_recipe
from doppio.library.models import Workspace
from doppio.library.services import load_documents, make_entry_link
from doppio.measuring.services import latest_trial, load_questions, measure_recipe

NAME = "Brackenhorn Ropeways"
PERSON = "engineer"
RECIPES = ("sparse-alone", "dense-alone", "fixed-window", "two-branch-1", "two-branch-2")


def load_demo(folder: Path) -> str:
    """Load the demo's documents, questions and recipes, and measure each recipe; what is there is kept."""
    documents = read_documents(folder / "documents")
    questions = read_questions(folder / "questions.jsonl", {document.id: document for document in documents})
    with transaction.atomic():
        user, _ = User.objects.get_or_create(username=PERSON)
        workspace, created = Workspace.objects.get_or_create(name=NAME)
        workspace.members.add(user)
        changed = load_documents(workspace, documents)
        load_questions(workspace, questions)
    fresh = created or not workspace.recipes.exists()
    for name in RECIPES:
        if fresh:
            save_recipe(workspace, read_recipe(folder / "recipes" / f"{name}.json").body, user=user)
    unmeasured = [recipe for recipe in workspace.recipes.order_by("pk") if latest_trial(recipe) is None]
    if unmeasured:
        err.print()
        with progress_bars() as bars:
            for recipe in unmeasured:
                measure_recipe(recipe, bars)
    if not created and not unmeasured:
        return "there"
    return f"{changed['added']} documents, {len(questions)} questions, {len(unmeasured)} recipes measured"


def entry_link() -> str | None:
    """The secret of a fresh one-time link for the demo's person, if there is one."""
    user = User.objects.filter(username=PERSON).first()
    return make_entry_link(user) if user else None
