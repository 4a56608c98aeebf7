"""Compiling what the first build and the first question run, ahead of them and beside other steps of a start.

Compiled functions are kept on disk, so the process that needs them finds them there.
"""

import json
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from doppio.command.paths import MODELS, ROOT
from doppio.core.branches.kind import DENSE, kind_of
from doppio.core.branches.many.coding import encode
from doppio.core.branches.many.index import Asked, Held, ManyIndex
from doppio.core.branches.sparse.building import build_postings, pack_postings
from doppio.core.branches.sparse.fields import FIELDS, FieldedIndex, FieldWeight
from doppio.core.branches.sparse.index import Segment, SparseIndex
from doppio.core.branches.sparse.nearness import Placed, nearness
from doppio.core.branches.sparse.ranges import LARGE
from doppio.core.branches.sparse.scan import FIRST_WINDOW
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.formats.documents import read_file
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import Segment as Tokens
from doppio.core.models.token_vectors import compress
from doppio.core.recipe.check import check
from doppio.core.recipe.recipe import Recipe
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import corpus_fingerprint

RECIPE = ROOT / "demo" / "recipes" / "two-branch-3.json"
PAGES = {
    "wind.md": "# Wind\n\nThe gondola stops at 18 metres a second. It reopens after 20 minutes.\n\n- orange: stop\n",
    "dogs.md": "# Dogs\n\nA dog rides for 6 crowns a day.\n\n## Muzzles\n\nThey are lent at the desk.\n",
}


def dense_alone(body: Mapping[str, Any], rerank: Mapping[str, Any] | None = None) -> Recipe:
    """A recipe with its dense branches alone: it cuts the same chunks and makes the same vectors.

    `rerank` is the recipe's own where its scorer needs vectors too, which are made in one go.
    """
    dense = [branch for branch in body["branches"] if kind_of(branch).family == DENSE]
    return check({**body, "branches": dense, "fusion": {"method": "reciprocal-rank"}, "rerank": rerank})


def compile_sparse() -> None:
    """Postings of two texts, searched."""
    postings = build_postings(PAGES.values(), len(PAGES), Analysis())
    index = SparseIndex([Segment(postings)])
    index.search(["gondola", "dog"], 2, Weighting())
    placed = Placed(Analysis())
    found = placed.of(range(len(PAGES)), lambda _: list(PAGES.values()))
    nearness(found, placed.numbers(["gondola"]), np.ones(1), np.ones(len(PAGES), np.float32), 1.2)


def compile_large() -> None:
    """Searches that leave chunks out, of segments as large as it takes for each, as one text and by fields."""
    for chunks in (FIRST_WINDOW + 1, LARGE + 1):
        stream = np.resize(np.arange(2, dtype=np.int32), chunks)
        index = SparseIndex([Segment(pack_postings(["dog", "gondola"], stream, np.ones(chunks, np.int32)))])
        index.search(["gondola"], 2, Weighting())
        fields = FieldedIndex(dict.fromkeys(FIELDS, index))
        fields.search([dict.fromkeys(FIELDS, "gondola")], 2, dict.fromkeys(FIELDS, FieldWeight(1.0, 0.5)), 1.2)


def compile_dense() -> None:
    """Two pages, cut as the demo cuts, in vectors that are searched; nothing stays but what was compiled."""
    corpus = [document for name, text in PAGES.items() for document in read_file(text.encode(), name)]
    recipe = dense_alone(json.loads(RECIPE.read_text()))
    _compile_late()
    with tempfile.TemporaryDirectory() as place:
        builder = Builder(ArtifactStore(Path(place)), Models(MODELS))
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, builder.chunks(corpus, key, recipe), recipe.chunking["context"])
        builder.indexes(key, recipe, texts)
        list(builder.open(key, recipe, texts).ask_many(["When does the gondola stop?", "What does a dog cost?"]))


def _compile_late() -> None:
    """Codes of made-up vectors, searched with and without them."""
    vectors = np.eye(16, dtype=np.float32).repeat(2, axis=0)
    spans = np.stack([np.arange(0, 32, 2), np.full(16, 2)], axis=1)
    nothing = np.zeros(1, np.int32)
    own = Tokens(spans, *compress(vectors), nothing, nothing)
    index = ManyIndex([Held(own, encode(own, 2, 4))])
    asked = Asked(vectors[:2], np.full(2, 0.5, np.float32))
    index.search(asked, 1, {"probes": 1, "over_fetch": 1})
