"""Questions of a manual with the passages that Doppio's own indexes find for them: the hard ones to learn from."""

import hashlib
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import PARAGRAPH, Document, DocumentBuilder, corpus_fingerprint
from training.manuals import Manual, read
from training.sections import HOW_TO, OTHER, QUESTION, Section, sections

PASSAGE_TOKENS = 128
MOST_PASSAGES, MOST_QUESTIONS = 1500, 450
SHORTLIST = 50
RECIPE = {
    "format": "doppio-recipe/1",
    "name": "mix that is reranked",
    "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": PASSAGE_TOKENS, "overlap": 0},
    "branches": [
        {"id": "sparse", "kind": "bm25", "depth": SHORTLIST},
        {"id": "dense", "kind": "vector", "encoder": "compact-english", "depth": SHORTLIST},
    ],
    "fusion": {"method": "scaled-scores", "weights": {"sparse": 1, "dense": 1}, "depth": SHORTLIST},
    "select": {"k": 5, "budget_tokens": 4000},
}


@dataclass(frozen=True)
class Question:
    """A heading, its section, and the best passages of the mix.

    ranked : (n,) int64, passages of the manual, best first
    scores : (n,) float32, those of the mix
    right : (m,) int64, passages that answer: those of the section
    """

    text: str
    kind: str
    section: int
    ranked: NDArray[np.int64]
    scores: NDArray[np.float32]
    right: NDArray[np.int64]


@dataclass(frozen=True)
class Mined:
    """A manual's passages, the section that each is of, and its questions."""

    manual: str
    fold: int
    passages: list[str]
    section: NDArray[np.int64]
    questions: list[Question]


def mine(manual: Manual, manuals: Path, target: Path, models: Path) -> Mined:
    """Read, cut, index and ask a manual, or take what an earlier run kept in `target`."""
    kept = target / f"{manual.package}.json"
    if not kept.exists():
        found = _mined(manual, manuals, target / "indexes", models)
        draft = kept.with_suffix(f".{os.getpid()}")
        draft.write_text(json.dumps(found))
        draft.replace(kept)
    return _read(manual, json.loads(kept.read_text()))


def _mined(manual: Manual, manuals: Path, store: Path, models: Path) -> dict[str, Any]:
    chosen = _chosen(sections(read(manual, manuals)))
    documents = [_document(number, section) for number, section in enumerate(chosen)]
    recipe = check(RECIPE)
    builder = Builder(ArtifactStore(store), Models(models))
    key = corpus_fingerprint(documents)
    table = builder.chunks(documents, key, recipe)
    texts = CorpusTexts(documents, table, recipe.chunking["context"])
    builder.indexes(key, recipe, texts)
    pipeline = builder.open(key, recipe, texts)
    asking = [number for number, section in enumerate(chosen) if section.kind != OTHER][:MOST_QUESTIONS]
    traces = pipeline.ask_many([chosen[number].heading for number in asking])
    return {
        "passages": texts.texts(range(len(table))),
        "section": table.document.tolist(),
        "questions": [
            {"text": chosen[number].heading, "kind": chosen[number].kind, "section": number,
             "ranked": fused.chunks.tolist(), "scores": fused.scores.tolist()}
            for number, trace in zip(asking, traces, strict=True)
            for fused in [next(stage for stage in trace.stages if stage.stage == "fused")]
        ],
    }  # fmt: skip


def _chosen(found: list[Section]) -> list[Section]:
    """Questions first, then what tells how, then others to be mistaken for answers, as many as passages fit."""
    order = {QUESTION: 0, HOW_TO: 1, OTHER: 2}
    ranked = sorted(found, key=lambda section: (order[section.kind], _shuffled(section.heading + section.text)))
    kept, passages = [], 0.0
    asking = 0
    for section in ranked:
        if section.kind != OTHER:
            asking += 1
            if asking > MOST_QUESTIONS:
                continue
        passages += 1 + len(section.text) // (4 * PASSAGE_TOKENS)
        if passages > MOST_PASSAGES:
            break
        kept.append(section)
    return kept


def _document(number: int, section: Section) -> Document:
    builder = DocumentBuilder()
    for part in section.text.split("\n\n"):
        builder.add(PARAGRAPH, part)
    return builder.build(f"section-{number}", f"section {number}")


def _read(manual: Manual, found: dict[str, Any]) -> Mined:
    section = np.array(found["section"], np.int64)
    questions = [
        Question(
            q["text"], q["kind"], q["section"], np.array(q["ranked"], np.int64), np.array(q["scores"], np.float32),
            np.flatnonzero(section == q["section"]),
        )
        for q in found["questions"]
    ]  # fmt: skip
    return Mined(manual.package, manual.fold, found["passages"], section, questions)


def _shuffled(text: str) -> str:
    """A place in an order that is the same in every run."""
    return hashlib.blake2b(text.encode(), digest_size=8).hexdigest()
