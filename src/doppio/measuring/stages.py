"""Stages as a whole, without a pin: lengths and cut answers, vocabulary, closeness of vectors."""

from typing import Any

import numpy as np

from doppio.core.pipeline import Pipeline
from doppio.core.sparse.bm25 import idf
from doppio.core.sparse.postings import Postings
from doppio.indexing.services import chunking_of
from doppio.library.models import Workspace

BINS = 16
LISTED = 12
COMPARED = 4000


def index_stage(workspace: Workspace, pipeline: Pipeline) -> dict[str, Any]:
    """Facts of the indexes: records, the vocabulary's ends, and how close chunks are to each other."""
    chunking = chunking_of(workspace, pipeline.recipe)
    postings = next(iter(pipeline.postings.values()), None)
    vectors = next(iter(pipeline.vectors.values()), None)
    commonest, codes = _terms(postings) if postings is not None else ([], [])
    records = chunking.indexes.order_by("kind") if chunking else []
    return {
        "indexes": [
            {"kind": row.kind, "bytes": row.bytes, "meta": row.meta, "built_at": row.built_at} for row in records
        ],
        "terms": len(postings.vocabulary) if postings else None,
        "commonest": commonest,
        "codes": codes,
        "encoder": pipeline.encoder.folder.title if pipeline.encoder else None,
        "encoder_tokens": pipeline.encoder.max_tokens if pipeline.encoder else None,
        "nearest": _nearest(vectors) if vectors is not None else [],
    }


def _terms(postings: Postings) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """The terms that most chunks hold, and the codes that most chunks hold."""
    held = np.diff(postings.begins)
    names = list(postings.vocabulary)
    order = np.argsort(-held, kind="stable")
    total = len(postings.lengths)

    def row(number: int) -> dict[str, Any]:
        count = int(held[number])
        return {"term": names[number], "chunks": count, "idf": idf(total, count)}

    codes = [int(n) for n in order if _is_code(names[n])]
    return [row(int(n)) for n in order[:LISTED]], [row(n) for n in codes[:LISTED]]


def _is_code(term: str) -> bool:
    return any(not sign.isalnum() for sign in term) and any(sign.isalpha() for sign in term)


def _nearest(vectors: np.ndarray) -> list[float]:
    """Share of chunks by the cosine to their nearest other chunk, in tenths from 0 to 1."""
    sample = np.arange(len(vectors))
    if len(sample) > COMPARED:
        sample = np.random.default_rng(0).choice(len(vectors), COMPARED, replace=False)
    if len(sample) < 2:
        return [0.0] * 10
    chosen = np.asarray(vectors[np.sort(sample)])
    cosines = chosen @ chosen.T
    np.fill_diagonal(cosines, -1)
    counts, _ = np.histogram(cosines.max(axis=1).clip(0, 1), bins=10, range=(0, 1))
    return [float(count) / len(sample) for count in counts]
