"""A workspace of the small ropeway corpus, loaded as the demo is."""

import json
import tempfile
from pathlib import Path

from django.contrib.auth.models import User
from django.db import transaction

from doppio.core.formats.questions import read_questions
from doppio.core.progress import Silent
from doppio.library.models import Workspace
from doppio.library.services import remove_documents, store_documents
from doppio.questions.services import load_questions
from doppio.recipes.models import RecipeVersion
from doppio.recipes.services import save_recipe
from doppio.trials.models import TrialRecord
from doppio.trials.services import measure_recipe
from tests.core.corpus import documents, recipe

QUESTIONS = [
    {"id": "q1", "text": "What is E-417?", "tags": ["exact"],
     "answers": [{"document": "alarms.csv", "quote": "Code: E-417; Meaning: tension carriage at a limit switch"}]},
    {"id": "q2", "text": "My puppy needs a ticket?", "tags": ["paraphrase"],
     "answers": [{"document": "dogs.html", "quote": "A dog rides for 6 crowns a day", "grade": 2}]},
    {"id": "q3", "text": "Reopening after a gale", "tags": [],
     "answers": [{"document": "wind.md", "quote": "It reopens when the mean has stayed below yellow for 20 m"}]},
    {"id": "q4", "text": "Who built it?", "tags": ["unanswerable"], "unanswerable": True},
]  # fmt: skip


@transaction.atomic
def load_documents(workspace: Workspace, corpus: list) -> dict[str, int]:
    """Bring a workspace's documents in line with these: all or nothing. Missing ones are removed."""
    names = {document.id for document in corpus}
    stored = store_documents(workspace, corpus)
    gone = workspace.documents.exclude(name__in=names)
    stored.removed += remove_documents(workspace, list(gone.values_list("pk", flat=True)))
    return stored.counts()


def labelled() -> list:
    with tempfile.NamedTemporaryFile("w", suffix=".jsonl") as file:
        file.write("\n".join(json.dumps(question) for question in QUESTIONS))
        file.flush()
        return read_questions(Path(file.name), {document.id: document for document in documents()})


def make_workspace(name: str = "Ropeway") -> tuple[Workspace, User]:
    user = User.objects.create_user(f"engineer of {name}", password="a long password")
    workspace = Workspace.objects.create(name=name)
    workspace.members.add(user)
    load_documents(workspace, documents())
    load_questions(workspace, labelled())
    return workspace, user


def measured(workspace: Workspace, **changes: object) -> tuple[RecipeVersion, TrialRecord]:
    saved = save_recipe(workspace, recipe(**changes).body)
    return saved, measure_recipe(saved, Silent())
