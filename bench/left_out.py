"""Late interaction beside single vectors on manuals that nothing was tuned to, as whole corpora.

    PYTHONPATH=src:. .venv/bin/python bench/left_out.py FOLDER

Fetches the manuals of `training/manuals.py` into the folder, cuts each by natural breaks of 160 tokens, asks its
headings and details as `training/corpora.py` draws them, and tells recall@1, recall@5 and the mean reciprocal rank of
branches alone and fused, with how much late interaction is ahead of vectors and the 95 % interval of that over
questions. Takes about 15 minutes; what is built stays in the folder.
"""

import sys
import warnings
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from training import manuals
from training.corpora import corpus
from training.details import DETAIL

from doppio.command.paths import MODELS
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.fusion.pouring import Ranking
from doppio.core.fusion.scaled_scores import scaled_score_fusion
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint

DEPTH, COUNTED = 50, 10
BRANCHES: Mapping[str, Mapping[str, Any]] = {
    "sparse": {"kind": "bm25"},
    "dense": {"kind": "vector"},
    "late": {"kind": "late-interaction", "codes": "none"},
    "late, 8 bits": {"kind": "late-interaction", "codes": "8"},
    "late, 2 bits": {"kind": "late-interaction", "codes": "2"},
    "late, 1 bit": {"kind": "late-interaction", "codes": "1"},
}
FUSED = {"sparse + dense": ("sparse", "dense"), "sparse + late": ("sparse", "late"),
         "dense + late": ("dense", "late"), "all three": ("sparse", "dense", "late")}  # fmt: skip
PAIRS = (("late", "dense"), ("sparse + late", "sparse + dense"), ("all three", "sparse + dense"))


def asked(manual: manuals.Manual, folder: Path, models: Models) -> tuple[list[str], dict[str, list[list[float]]]]:
    """Kinds of the questions, and by pipeline and question recall@1, recall@5 and the reciprocal rank."""
    whole = corpus(list(manuals.read(manual, folder / "manuals")), manual.title)
    builder, key = Builder(ArtifactStore(folder / "indexes"), models), corpus_fingerprint(whole.documents)
    questions = [question for question in whole.questions if question.spans]
    found: dict[str, list[list[float]]] = {}
    rankings: dict[str, list[Ranking]] = {}
    positions = document_positions([document.id for document in whole.documents])
    right = []
    for name, branch in BRANCHES.items():
        recipe = check({
            "format": "doppio-recipe/1", "name": name, "select": {"k": 5, "budget_tokens": 4000},
            "chunking": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24},
            "branches": [{"id": "one", "depth": DEPTH, **branch}],
        })  # fmt: skip
        texts = CorpusTexts(whole.documents, builder.chunks(whole.documents, key, recipe))
        builder.indexes(key, recipe, texts)
        pipeline = builder.open(key, recipe, texts)
        if not right:
            for question in questions:
                spans = tuple(Span(whole.documents[place].id, low, high) for place, low, high in question.spans)
                labelled = Question(question.text, question.text, spans)
                right.append(relevance(pipeline.chunks, positions, labelled))
        own, said = pipeline.branches["one"], [question.text for question in questions]
        vectors = own.encoder.questions(said) if own.encoder else None
        rankings[name] = own.search_many(said, vectors, DEPTH)
        found[name] = [_figures(good, chunks) for good, (chunks, _) in zip(right, rankings[name], strict=True)]
    for name, parts in FUSED.items():
        fused = []
        for place, good in enumerate(right):
            mixed = scaled_score_fusion([rankings[part][place] for part in parts])
            fused.append(_figures(good, mixed.chunks))
        found[name] = fused
    return [question.kind for question in questions], found


def _figures(right: Any, chunks: np.ndarray) -> list[float]:
    hits = np.flatnonzero(right.any_of(chunks[:COUNTED]))
    first = int(hits[0]) + 1 if len(hits) else 0
    return [float(first == 1), float(0 < first <= 5), 1 / first if first else 0.0]


def main() -> None:
    folder = Path(sys.argv[1])
    warnings.filterwarnings("ignore")
    manuals.fetch(folder / "manuals")
    models, kinds, rows = Models(MODELS), [], {}
    for manual in manuals.MANUALS:
        own, found = asked(manual, folder, models)
        kinds += own
        for name, figures in found.items():
            rows.setdefault(name, []).extend(figures)
        told = {name: f"{np.mean(found[name], axis=0)[2]:.3f}" for name in ("sparse", "dense", "late", "all three")}
        print(f"{manual.package}: {len(own)} questions, MRR {told}", flush=True)
    detail = np.array([kind == DETAIL for kind in kinds])
    for title, wanted in (("headings", ~detail), ("details", detail)):
        print(f"\n{title}: {wanted.sum()} questions; recall@1, recall@5, MRR@10")
        for name, figures in rows.items():
            means = np.array(figures)[wanted].mean(axis=0)
            print(f"  {name:16}" + "".join(f"{mean:8.3f}" for mean in means))
        for one, other in PAIRS:
            apart = (np.array(rows[one]) - np.array(rows[other]))[wanted]
            half = 1.96 * apart.std(axis=0, ddof=1) / np.sqrt(len(apart))
            print(
                f"  {one} over {other}: "
                + ", ".join(f"{a:+.3f} ± {h:.3f}" for a, h in zip(apart.mean(axis=0), half, strict=True))
            )


if __name__ == "__main__":
    main()
