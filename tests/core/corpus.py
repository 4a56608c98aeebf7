"""A small corpus of the ropeway, built by hand, for tests that need documents."""

import os
from collections.abc import Sequence
from functools import cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check
from doppio.core.recipe.recipe import Recipe
from doppio.core.text.document import HEADING, PARAGRAPH, Document, DocumentBuilder
from doppio.core.text.units import Units, words

ROOT = Path(__file__).resolve().parents[2]
MODELS = Path(os.environ.get("DOPPIO_VAR", ROOT / "var")) / "models"

TEXTS = {
    "wind.md": [
        (HEADING, "Wind rules"),
        (PARAGRAPH, "The gondola stops when the mean wind reaches 18 metres a second. Nobody boards after orange."),
        (PARAGRAPH, "It reopens when the mean has stayed below yellow for 20 minutes."),
    ],
    "alarms.csv": [
        (HEADING, "Alarm codes"),
        (PARAGRAPH, "Code: E-417; Meaning: tension carriage at a limit switch; Release: line chief"),
        (PARAGRAPH, "Code: E-471; Meaning: tension carriage of line D iced; Release: line chief"),
    ],
    "dogs.html": [
        (HEADING, "Dogs"),
        (PARAGRAPH, "A dog rides for 6 crowns a day and wears a muzzle in the cable car."),
        (PARAGRAPH, "Muzzles can be borrowed at the ticket office against a deposit."),
    ],
}


def documents() -> list[Document]:
    return [_built(name, blocks) for name, blocks in sorted(TEXTS.items())]


def more_documents(count: int) -> list[Document]:
    """The small corpus with as many made of a few words beside it."""
    words = "rope wind cabin tower brake grip line ice snow deck rail crown".split()
    random = np.random.default_rng(5)
    found = documents()
    for number in range(count):
        builder = DocumentBuilder()
        for _ in range(3):
            builder.add(PARAGRAPH, " ".join(random.choice(words, random.integers(4, 30))))
        found.append(builder.build(f"more-{number:03}.md"))
    return sorted(found, key=lambda document: document.id)


def _built(name: str, blocks: list[tuple[str, str]]) -> Document:
    builder = DocumentBuilder()
    for kind, text in blocks:
        builder.add(kind, text, 1 if kind == HEADING else 0)
    return builder.build(name)


@cache
def encoder() -> Encoder:
    return Models(MODELS).encoder()


def recipe(**changes: object) -> Recipe:
    body: dict = {
        "format": "doppio-recipe/1",
        "name": "test",
        "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 24, "overlap": 4},
        "branches": [{"id": "sparse", "kind": "bm25"}, {"id": "dense", "kind": "vector"}],
        "rerank": {"scorer": "late-interaction", "shortlist": 5},
        "select": {"k": 2, "budget_tokens": 60},
    }
    return check({**body, **changes})


class WordsAsTokens:
    """What cutting needs to know of an encoder whose tokens are words."""

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        return [words(text) for text in texts]

    def token_counts(self, texts: Sequence[str]) -> NDArray[np.int64]:
        return np.array([len(words(text).starts) for text in texts], np.int64)
