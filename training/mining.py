"""What the product finds for the questions of a manual: whole pages, cut by its rules, asked through its pipeline."""

import json
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.measure.questions import Question as Labelled
from doppio.core.measure.questions import Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe.check import check
from doppio.core.reranking.late_interaction import LateInteraction, best_in
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from doppio.core.text.windows import character_ranges, line_before, window_bounds
from training.corpora import Asked, Corpus, corpus
from training.manuals import Manual, read

# The cuts that scorers are judged under; the first two leave passages bare, the third puts title and sections before.
CUTS: Mapping[str, Mapping[str, Any]] = {
    "natural breaks, 160": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24},
    "natural breaks, 200": {"rule": "natural-breaks", "unit": "tokens", "size": 200, "overlap": 0},
    "outline with path, 200": {"rule": "outline", "unit": "tokens", "size": 200, "overlap": 0, "context": "path"},
}
DEPTH, SHORTLIST = 50, 20
# Tokens of a window that late interaction chooses from; the first is the one that ships.
WINDOWS = (64, 128)


@dataclass(frozen=True)
class Question:
    """A question and its candidates, in the order of the mix.

    chunks, sparse, dense, fused, late : (n,) chunks, and their scores; NaN where a branch did not find one
    right : (n,) whether it answers
    touches : (n,) whether it holds some of the answer, so that it is no clear mistake
    windows : of each size, n ranges of characters, the window that late interaction likes best
    in_window : of each size, (n,) whether that window answers
    """

    text: str
    kind: str
    answerable: bool
    chunks: NDArray[np.int64]
    sparse: NDArray[np.float64]
    dense: NDArray[np.float64]
    fused: NDArray[np.float64]
    late: NDArray[np.float64]
    right: NDArray[np.bool_]
    touches: NDArray[np.bool_]
    windows: Mapping[int, Sequence[tuple[int, int]]] = field(repr=False)
    in_window: Mapping[int, NDArray[np.bool_]] = field(repr=False)


@dataclass(frozen=True)
class Mined:
    """A manual under one cut.

    passages : texts of its chunks
    lines : what stands before the windows of each: title and sections around it
    """

    manual: str
    fold: int
    cut: str
    passages: list[str]
    lines: list[str]
    questions: list[Question]


def recipe_of(cut: str) -> dict[str, Any]:
    """The pipeline whose mix is reranked."""
    return {
        "format": "doppio-recipe/1",
        "name": cut,
        "chunking": dict(CUTS[cut]),
        "branches": [
            {"id": "sparse", "kind": "bm25", "depth": DEPTH},
            {"id": "dense", "kind": "vector", "encoder": "compact-english", "depth": DEPTH},
        ],
        "fusion": {"method": "scaled-scores", "weights": {"sparse": 1, "dense": 4}, "depth": 2 * DEPTH},
        "rerank": {"scorer": "late-interaction", "shortlist": SHORTLIST},
        "select": {"k": 5, "budget_tokens": 4000},
    }


def mine(manual: Manual, place: Path, models: Models, progress: Progress | None = None) -> list[Mined]:
    """Read, cut, index and ask a manual under every cut, or take what an earlier run kept below `place`."""
    found: list[Mined] = []
    whole: Corpus | None = None
    for cut in CUTS:
        kept = place / "mined" / f"{manual.package}, {cut}.json"
        if not kept.exists():
            whole = whole or corpus(list(read(manual, place / "manuals")), manual.title)
            body = _mined(whole, cut, place / "indexes", models, progress or Silent())
            kept.parent.mkdir(parents=True, exist_ok=True)
            draft = kept.with_suffix(f".{os.getpid()}")
            draft.write_text(json.dumps(body))
            draft.replace(kept)
        found.append(_read(manual, cut, json.loads(kept.read_text())))
    return found


def built(whole: Corpus, cut: str, store: Path, models: Models, progress: Progress) -> Pipeline:
    """The pipeline over a corpus under a cut; what is there of its indexes is taken."""
    recipe = check(recipe_of(cut))
    builder = Builder(ArtifactStore(store), models, progress)
    key = corpus_fingerprint(whole.documents)
    table = builder.chunks(whole.documents, key, recipe)
    texts = CorpusTexts(whole.documents, table, recipe.chunking["context"])
    builder.indexes(key, recipe, texts)
    return builder.open(key, recipe, texts)


def late_of(pipeline: Pipeline) -> LateInteraction:
    """Late interaction, by which such a pipeline reranks."""
    assert pipeline.reranker is not None and pipeline.reranker.late is not None
    return pipeline.reranker.late


def _mined(whole: Corpus, cut: str, store: Path, models: Models, progress: Progress) -> dict[str, Any]:
    pipeline = built(whole, cut, store, models, progress)
    table, texts = pipeline.chunks, pipeline.texts
    late = late_of(pipeline)
    numbers = range(len(table))
    passages = texts.texts(numbers)
    units = late.encoder.token_offsets(passages)
    bounds = {
        size: [window_bounds(text, own, size) for text, own in zip(passages, units, strict=True)] for size in WINDOWS
    }
    context = table.context.tolist()
    positions = document_positions([document.id for document in whole.documents])
    rows = []
    for asked, trace in zip(whole.questions, pipeline.ask_many([q.text for q in whole.questions]), strict=True):
        stages = {stage.stage: stage for stage in trace.stages}
        fused = stages["fused"]
        chunks = fused.chunks.tolist()
        spans = [(whole.documents[d].id, start, end) for d, start, end in asked.spans]
        labelled = Labelled(asked.text, asked.text, tuple(Span(*span) for span in spans))
        right = relevance(table, positions, labelled).any_of(fused.chunks) if spans else np.zeros(len(chunks), bool)
        cosines, weights = late.cosines(asked.text, chunks)
        row: dict[str, Any] = {
            "text": asked.text, "kind": asked.kind, "answerable": bool(spans), "chunks": chunks,
            "sparse": _scores_of(stages["sparse"], chunks), "dense": _scores_of(stages["dense"], chunks),
            "fused": fused.scores.tolist(), "right": right.tolist(), "windows": {}, "in_window": {},
            "late": [float(c.max(axis=0) @ weights) if len(c) else -1.0 for c in cosines],
            "touches": [_shared(table, n, asked) for n in chunks],
        }  # fmt: skip
        for size in WINDOWS:
            ranges = []
            for n, own in zip(chunks, cosines, strict=True):
                # Vectors are those of the text as it is indexed, its context line first.
                scores = best_in(own[context[n] :], weights, bounds[size][n])
                ranges.append(character_ranges(passages[n], units[n], bounds[size][n])[int(scores.argmax())])
            row["windows"][size] = ranges
            row["in_window"][size] = [_in(table, n, window, asked) for n, window in zip(chunks, ranges, strict=True)]
        rows.append(row)
    lines = [
        line_before(title, headings.split("\n"))
        for title, headings in zip(texts.titles(numbers), texts.headings(numbers), strict=True)
    ]
    return {"passages": passages, "lines": lines, "questions": rows}


def _scores_of(stage: Any, chunks: Sequence[int]) -> list[float | None]:
    found = dict(zip(stage.chunks.tolist(), stage.scores.tolist(), strict=True))
    return [found.get(chunk) for chunk in chunks]


def _shared(table: Any, chunk: int, asked: Asked) -> bool:
    """Whether a chunk holds some of the answer."""
    start, end, document = int(table.start[chunk]), int(table.end[chunk]), int(table.document[chunk])
    return max((min(end, b) - max(start, a) for d, a, b in asked.spans if d == document), default=0) > 0


def _in(table: Any, chunk: int, window: tuple[int, int], asked: Asked) -> bool:
    """Whether a window answers, by the rule that chunks do."""
    start, document = int(table.start[chunk]), int(table.document[chunk])
    low, high = start + window[0], start + window[1]
    return any(min(high, b) - max(low, a) >= 0.5 * min(high - low, b - a) for d, a, b in asked.spans if d == document)


def _read(manual: Manual, cut: str, found: dict[str, Any]) -> Mined:
    questions = [
        Question(
            q["text"], q["kind"], q["answerable"], np.array(q["chunks"], np.int64),
            *(np.array(q[name], np.float64) for name in ("sparse", "dense", "fused", "late")),
            np.array(q["right"], bool), np.array(q["touches"], bool),
            {int(size): [(a, b) for a, b in ranges] for size, ranges in q["windows"].items()},
            {int(size): np.array(inside, bool) for size, inside in q["in_window"].items()},
        )
        for q in found["questions"]
    ]  # fmt: skip
    return Mined(manual.package, manual.fold, cut, found["passages"], found["lines"], questions)
