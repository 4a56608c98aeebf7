"""Pages by patches beside terms, vectors and late interaction, on manuals that nothing was tuned to, in print.

    PYTHONPATH=src:. .venv/bin/python bench/pages.py FOLDER [PACKAGE ...]

Fetches manuals of `training/manuals.py` into the folder, draws a corpus and questions of each as
`training/corpora.py` does, prints the documents to PDF on letter paper, reads these back as the product does, and
takes a page for a passage. An answer is looked for by its beginning and its end; questions whose answer is not found
on the pages are left out, and counted. Tells recall@1, recall@5 and the mean reciprocal rank of the pages that hold
the answer, for headings and for details, with the 95 % interval of what patches are ahead. Some minutes a manual.
"""

import html
import sys
import warnings
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import weasyprint
from training import manuals
from training.corpora import Corpus, corpus
from training.details import DETAIL

from doppio.command.paths import MODELS
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.formats.documents import read_file
from doppio.core.fusion.pouring import Ranking
from doppio.core.fusion.scaled_scores import scaled_score_fusion
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.models.registry import Models
from doppio.core.recipe.check import check
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import CODE, HEADING, PAGE, Document, corpus_fingerprint
from doppio.core.text.quotes import Folded

LEFT_OUT = ("r-doc-html", "exim4-doc-html", "gimp-help-en")
DEPTH, COUNTED, EDGE = 50, 10, 50
BRANCHES: Mapping[str, Mapping[str, Any]] = {
    "sparse": {"kind": "bm25"},
    "dense": {"kind": "vector"},
    "late": {"kind": "late-interaction", "codes": "none"},
    "patches, 20 x 15": {"kind": "patches", "over_fetch": 20},
    "patches, 40 x 15": {"kind": "patches", "rows": 40, "over_fetch": 20},
}
FUSED = {"sparse + dense": ("sparse", "dense"), "sparse + patches": ("sparse", "patches, 20 x 15"),
         "sparse + late": ("sparse", "late")}  # fmt: skip
PAIRS = (("patches, 20 x 15", "dense"), ("patches, 20 x 15", "late"), ("sparse + patches", "sparse + dense"))
STYLE = (
    "@page { size: letter; margin: 2cm } body { font: 10pt serif } pre { font: 9pt monospace; white-space: pre-wrap }"
)


def printed(document: Document, name: str) -> Document:
    """A document as it is read from the pages that it was printed on."""
    parts = [f"<style>{STYLE}</style>"]
    for block in document.blocks:
        if block.kind == PAGE:
            continue
        text = html.escape(document.text[block.start : block.end])
        tag = f"h{min(max(block.level, 1), 6)}" if block.kind == HEADING else "pre" if block.kind == CODE else "p"
        parts.append(f"<{tag}>{text}</{tag}>")
    return read_file(weasyprint.HTML(string="".join(parts)).write_pdf(), f"{name}.pdf", readings={})[0]


def on_pages(whole: Corpus) -> tuple[list[Document], list[tuple[str, Question]], int]:
    """The corpus on pages, its questions with their kinds, and how many were left out."""
    pages = [printed(document, f"{place:04}") for place, document in enumerate(whole.documents)]
    texts = [Folded(document.text) for document in pages]
    questions, lost = [], 0
    for question in whole.questions:
        if not question.spans:
            continue
        spans = []
        for place, low, high in question.spans:
            quote = whole.documents[place].text[low:high].strip()
            begin, end = texts[place].places(quote[:EDGE].rstrip()), texts[place].places(quote[-EDGE:].lstrip())
            ends = [one[1] for one in end if begin and one[1] > begin[0][0]]
            if ends:
                spans.append(Span(pages[place].id, begin[0][0], ends[0]))
        if len(spans) < len(question.spans):
            lost += 1
            continue
        questions.append((question.kind, Question(question.text, question.text, tuple(spans))))
    return pages, questions, lost


def measured(
    pages: Sequence[Document], questions: Sequence[Question], folder: Path, models: Models
) -> dict[str, list[list[float]]]:
    """By pipeline and question recall@1, recall@5 and the reciprocal rank of the first page that holds the answer."""
    builder, key = Builder(ArtifactStore(folder), models), corpus_fingerprint(pages)
    positions = document_positions([document.id for document in pages])
    found: dict[str, list[list[float]]] = {}
    rankings: dict[str, list[Ranking]] = {}
    right: list[Any] = []
    said = [question.text for question in questions]
    for name, branch in BRANCHES.items():
        recipe = check({
            "format": "doppio-recipe/1", "name": name, "select": {"k": 5, "budget_tokens": 4000},
            "chunking": {"rule": "pages", "unit": "tokens", "size": 4000},
            "branches": [{"id": "one", "depth": DEPTH, **branch}],
        })  # fmt: skip
        texts = CorpusTexts(pages, builder.chunks(pages, key, recipe))
        builder.indexes(key, recipe, texts)
        pipeline = builder.open(key, recipe, texts)
        right = right or [relevance(pipeline.chunks, positions, question) for question in questions]
        own = pipeline.branches["one"]
        vectors = own.encoder.questions(said) if own.encoder else None
        rankings[name] = own.search_many(said, vectors, DEPTH)
        found[name] = [_figures(good, chunks) for good, (chunks, _) in zip(right, rankings[name], strict=True)]
    for name, parts in FUSED.items():
        found[name] = [
            _figures(good, scaled_score_fusion([rankings[part][place] for part in parts]).chunks)
            for place, good in enumerate(right)
        ]
    return found


def _figures(right: Any, chunks: np.ndarray) -> list[float]:
    hits = np.flatnonzero(right.any_of(chunks[:COUNTED]))
    first = int(hits[0]) + 1 if len(hits) else 0
    return [float(first == 1), float(0 < first <= 5), 1 / first if first else 0.0]


def main() -> None:
    folder, packages = Path(sys.argv[1]), sys.argv[2:] or LEFT_OUT
    warnings.filterwarnings("ignore")
    manuals.fetch(folder / "manuals", packages)
    models, kinds, rows = Models(MODELS), [], {}
    for manual in (one for one in manuals.MANUALS if one.package in packages):
        whole = corpus(list(manuals.read(manual, folder / "manuals")), manual.title)
        pages, asked, lost = on_pages(whole)
        kinds += [kind for kind, _ in asked]
        found = measured(pages, [question for _, question in asked], folder / "pages", models)
        for name, figures in found.items():
            rows.setdefault(name, []).extend(figures)
        told = {name: f"{np.mean(figures, axis=0)[2]:.3f}" for name, figures in found.items()}
        print(f"{manual.package}: {len(asked)} questions ({lost} left out), MRR {told}", flush=True)
    detail = np.array([kind == DETAIL for kind in kinds])
    for title, wanted in (("headings", ~detail), ("details", detail)):
        print(f"\n{title}: {wanted.sum()} questions; recall@1, recall@5, MRR@10")
        for name, figures in rows.items():
            print(f"  {name:18}" + "".join(f"{mean:8.3f}" for mean in np.array(figures)[wanted].mean(axis=0)))
        for one, other in PAIRS:
            apart = (np.array(rows[one]) - np.array(rows[other]))[wanted]
            half = 1.96 * apart.std(axis=0, ddof=1) / np.sqrt(len(apart))
            told = ", ".join(f"{a:+.3f} ± {h:.3f}" for a, h in zip(apart.mean(axis=0), half, strict=True))
            print(f"  {one} over {other}: {told}")


if __name__ == "__main__":
    main()
