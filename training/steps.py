"""What each step of asking brings, on manuals and on the demo: `python -m training.steps [MANUAL ...]`.

Every step is compared with the recipe without it, question by question; p is of a paired randomisation test. Nothing
is chosen here: steps have their own first settings.
"""

import argparse
import copy
import os
import tempfile
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.formats.documents import read_documents
from doppio.core.formats.questions import read_questions
from doppio.core.measure.comparing import compare
from doppio.core.measure.measuring import handed_at, measured_by
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import Document, corpus_fingerprint
from training import manuals
from training.corpora import corpus

ROOT = Path(__file__).resolve().parent.parent
LEFT_OUT = ("r-doc-html", "exim4-doc-html", "gimp-help-en")
BASE: dict[str, Any] = {
    "format": "doppio-recipe/1",
    "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24},
    "branches": [{"id": "sparse", "kind": "bm25"}, {"id": "dense", "kind": "vector"}],
    "fusion": {"method": "scaled-scores", "weights": {"sparse": 2, "dense": 3}},
    "select": {"k": 8, "budget_tokens": 1000},
}
BROAD = {"kind": "as-needed", "around": "stretch", "tokens": 1000}
SPARSE, EXPANDED = {"id": "sparse", "kind": "bm25"}, {"id": "expanded", "kind": "expanded"}
ALONE: dict[str, dict[str, Any]] = {
    "terms alone": {"branches": [SPARSE], "fusion": {"weights": {"sparse": 1}}},
    "expanded terms alone": {"branches": [EXPANDED], "fusion": {"weights": {"expanded": 1}}},
    "terms alone, with nearness": {
        "branches": [{**SPARSE, "nearness": 1}], "fusion": {"weights": {"sparse": 1}}
    },
    "expanded questions alone": {
        "branches": [{**EXPANDED, "passage_terms": 0}], "fusion": {"weights": {"expanded": 1}}
    },
}  # fmt: skip
STEPS: dict[str, dict[str, Any]] = {
    # What the next step has to be told from: it gives words more weight too.
    "terms with twice the weight": {"fusion": {"weights": {"sparse": 4, "dense": 3}}},
    "expanded terms beside both": {
        "branches": [*BASE["branches"], EXPANDED],
        "fusion": {"weights": {"sparse": 2, "dense": 3, "expanded": 2}},
    },
    "nearness of terms": {"branches": [{**SPARSE, "nearness": 1}, BASE["branches"][1]]},
    "key terms": {"question": {"terms": {"kind": "key-terms"}}},
    "feedback": {"question": {"wordings": [{"kind": "feedback"}]}},
    "words of the same sense": {"question": {"wordings": [{"kind": "thesaurus"}]}},
    "near words of the corpus": {
        "branches": [*BASE["branches"], EXPANDED],
        "fusion": {"weights": {"sparse": 2, "dense": 3, "expanded": 0}},
        "question": {"wordings": [{"kind": "near-words"}]},
    },
    "key terms as a wording": {"question": {"wordings": [{"kind": "templates"}]}},
    "variety by words, strength .1": {"select": {"diversity": {"kind": "shared-words", "strength": 0.1}}},
    "variety by words, strength .3": {"select": {"diversity": {"kind": "shared-words"}}},
    "variety by vectors, strength .3": {"select": {"diversity": {"kind": "vectors"}}},
    "whole sentences": {"select": {"widening": {"kind": "as-needed", "broad": None, "share": None}}},
    "neighbours": {"select": {"widening": {"kind": "neighbours"}}},
    "whole sections": {"select": {"widening": {"kind": "section"}}},
    "sections where broad": {"select": {"widening": {"kind": "as-needed"}}},
    "a stretch where broad": {"select": {"widening": BROAD}},
}
FIGURES = (("recall@20", "fused"), ("recall@20", "context"), ("coverage@20", "context"))
DETAIL, BROAD_TAG = "detail", "broad"


def corpora(wanted: Sequence[str], place: Path) -> Iterator[tuple[str, list[Document], list[Question]]]:
    """The demo, and manuals as whole corpora."""
    demo = list(read_documents(ROOT / "demo" / "documents"))
    yield "demo", demo, read_questions(ROOT / "demo" / "questions.jsonl", {one.id: one for one in demo})
    for manual in manuals.MANUALS:
        if manual.package in wanted:
            made = corpus(list(manuals.read(manual, place)), manual.title)
            documents = [replace(one, id=f"{number} {one.id}") for number, one in enumerate(made.documents)]
            questions = []
            for number, asked in enumerate(made.questions):
                spans = tuple(Span(documents[place].id, low, high) for place, low, high in asked.spans)
                questions.append(Question(str(number), asked.text, spans, (asked.kind,)))
            yield manual.package, documents, questions


def figures(
    builder: Builder, documents: Sequence[Document], questions: Sequence[Question], changes: dict[str, Any]
) -> tuple[np.ndarray, np.ndarray, float]:
    """(figures, questions) of a recipe, (questions,) tokens that it hands on, the median seconds of a question."""
    body = copy.deepcopy(BASE)
    for part, told in changes.items():
        body[part] = {**body.get(part, {}), **told} if isinstance(told, dict) else told
    recipe, key = check(body), corpus_fingerprint(documents)
    texts = CorpusTexts(documents, builder.chunks(documents, key, recipe))
    builder.indexes(key, recipe, texts)
    pipeline = builder.open(key, recipe, texts)
    places = document_positions([one.id for one in documents])
    found, tokens, seconds = [], [], []
    for question in questions:
        trace = pipeline.ask(question.text)
        relevant, row = relevance(pipeline.chunks, places, question), []
        for metric, name in FIGURES:
            stage = trace.stage(name)
            value = measured_by(metric, stage.ranking, relevant.at(stage), pipeline.chunks, handed_at(stage))
            row.append(np.nan if value is None else value)
        found.append(row)
        tokens.append(trace.tokens)
        seconds.append(sum(trace.seconds.values()))
    return np.array(found).T, np.array(tokens), float(np.median(seconds))


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m training.steps", description=__doc__)
    parser.add_argument("manuals", nargs="*", default=LEFT_OUT)
    parser.add_argument("--only", default="", help="steps whose names have this")
    given = parser.parse_args()
    var = Path(os.environ.get("DOPPIO_VAR", ROOT / "var"))
    warnings.filterwarnings("ignore", module="bs4")
    manuals.fetch(var / "training" / "manuals")
    with tempfile.TemporaryDirectory() as folder:
        builder = Builder(ArtifactStore(Path(folder)), Models(var / "models"))
        for name, documents, questions in corpora(given.manuals, var / "training" / "manuals"):
            asked = [question for question in questions if question.answerable]
            broad = np.array([question.tags != (DETAIL,) for question in asked])
            if name == "demo":
                broad = np.array([BROAD_TAG in question.tags for question in asked])
            print(f"\n{name}: {len(documents)} documents, {len(asked)} questions, {broad.sum()} broad", flush=True)
            before, paid, took = figures(builder, documents, asked, {})
            print(_row("nothing", before, before, paid, broad, took), flush=True)
            first = before
            for step, changes in ALONE.items():
                if given.only in step:
                    own, tokens, seconds = figures(builder, documents, asked, changes)
                    first = own if changes is ALONE["terms alone"] else first
                    print(_row(step, first, own, tokens, broad, seconds), flush=True)
            for step, changes in STEPS.items():
                if given.only not in step:
                    continue
                own, tokens, seconds = figures(builder, documents, asked, changes)
                print(_row(step, before, own, tokens, broad, seconds), flush=True)


def _row(
    step: str, before: np.ndarray, own: np.ndarray, tokens: np.ndarray, broad: np.ndarray, seconds: float
) -> str:
    cells = []
    for (metric, stage), was, now in zip(FIGURES, before, own, strict=True):
        for some, label in ((~broad, "narrow"), (broad, "broad")):
            pair = ~(np.isnan(was) | np.isnan(now)) & some
            cell = f"{stage} {metric} {label} {now[pair].mean():.3f}"
            if was is not now and (was[pair] != now[pair]).any():
                [told] = compare(np.stack([was[pair], now[pair]]), [(0, 1)])
                cell += f" ({100 * told.mean:+.1f}: {100 * told.low:+.1f} to {100 * told.high:+.1f}, p {told.p:.3f})"
            cells.append(cell)
    return f"{step} | " + " | ".join(cells) + f" | {tokens.mean():.0f} tokens, {1000 * seconds:.0f} ms"


if __name__ == "__main__":
    main()
