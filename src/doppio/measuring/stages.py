"""The branches as a whole, without a pin: what their indexes hold, what they cost, how close chunks are."""

from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from doppio.asking.explain import sparse_branch
from doppio.core.dense.index import VECTORS, DenseIndex
from doppio.core.dense.pairs import close_pairs
from doppio.core.dense.survey import joined, principal_axes
from doppio.core.pipeline import Pipeline, measure_of
from doppio.core.sparse.fields import BODY, FieldedIndex
from doppio.core.sparse.index import SparseIndex
from doppio.core.sparse.weighting import Weighting
from doppio.indexing.models import Index, Survey
from doppio.indexing.services import chunking_of, indexes_of, models
from doppio.library.models import Workspace

LISTED = 12
COMPARED = 4000
MAPPED = 3000
# Found once for an opened index: every chunk is read for them.
_axes: WeakKeyDictionary[DenseIndex, tuple[Any, Any, Any]] = WeakKeyDictionary()
PAIRS_LISTED, PAIRS_UP_TO = 60, 30_000
# A spread of lengths from which on they weigh as much as what the vectors say.
UNEQUAL = 0.1


def index_stage(workspace: Workspace, pipeline: Pipeline) -> dict[str, Any]:
    """Facts of the indexes of both branches."""
    records = indexes_of(workspace, pipeline.recipe)
    return {"sparse": _sparse(pipeline, records), "dense": _dense(pipeline, records)}


def _sparse(pipeline: Pipeline, records: dict[str, list[Index]]) -> dict[str, Any] | None:
    branch = sparse_branch(pipeline)
    if branch is None:
        return None
    index = pipeline.postings[branch["id"]]
    fields = index.fields if isinstance(index, FieldedIndex) else {}
    body = fields.get(BODY) or index
    assert isinstance(body, SparseIndex)
    held = body.vocabulary()
    order = sorted(held, key=lambda term: (-held[term], term))
    weighting = Weighting(branch["variant"])

    def row(term: str) -> dict[str, Any]:
        return {"term": term, "chunks": held[term], "idf": weighting.idf(body.count, held[term])}

    own = records.get(branch["id"], [])
    return {
        "measure": measure_of(branch),
        "variant": branch["variant"],
        "fields": [
            {"name": name, "mean": field.mean, **{key: branch["fields"][name][key] for key in ("weight", "b")}}
            for name, field in fields.items()
        ],
        "terms": len(held),
        "entries": sum(record.meta.get("entries", 0) for record in own),
        "bytes": sum(record.bytes for record in own),
        "segments": len(body.segments),
        "mean": body.mean,
        "commonest": [row(term) for term in order[:LISTED]],
        "codes": [row(term) for term in [term for term in order if _is_code(term)][:LISTED]],
    }


def _is_code(term: str) -> bool:
    return any(not sign.isalnum() for sign in term) and any(sign.isalpha() for sign in term)


def _unequal(index: DenseIndex) -> str:
    """A warning where long vectors win by their length."""
    spread = index.length_spread
    if spread < UNEQUAL:
        return ""
    return (
        f"Lengths of the vectors spread by {spread:.2f} (standard deviation of their logarithm): with "
        "the inner product long ones come first, whatever they say. The cosine does not look at lengths."
    )


def dense_branch(pipeline: Pipeline) -> dict[str, Any] | None:
    """The recipe's first dense branch."""
    return next((branch for branch in pipeline.recipe.branches if branch["kind"] == "vector"), None)


def _dense(pipeline: Pipeline, records: dict[str, list[Index]]) -> dict[str, Any] | None:
    branch = dense_branch(pipeline)
    if branch is None:
        return None
    index = pipeline.vectors[branch["id"]]
    encoder = pipeline.encoders[branch["id"]]
    own = records.get(branch["id"], [])
    seconds = [record.meta.get("seconds") for record in own if record.kind == VECTORS]
    return {
        "encoder": encoder.name,
        "title": encoder.title,
        "warning": " ".join(filter(None, [encoder.warning, _unequal(index)])),
        "max_tokens": encoder.max_tokens,
        "dimension": index.dimension,
        "metric": branch["metric"],
        "measure": measure_of(branch),
        "structure": branch["structure"],
        "chunks": index.count,
        "segments": len(index.segments),
        "vector_bytes": index.vector_bytes,
        "structure_bytes": index.structure_bytes,
        "disk_bytes": sum(record.bytes for record in own),
        "seconds": next((value for value in seconds if value is not None), None),
        "nearest": _nearest(index),
    }


def _nearest(index: DenseIndex) -> list[float]:
    """Share of chunks by the cosine to their nearest other chunk, in tenths from 0 to 1."""
    sample = np.arange(index.count)
    if len(sample) > COMPARED:
        sample = np.sort(np.random.default_rng(0).choice(index.count, COMPARED, replace=False))
    if len(sample) < 2:
        return [0.0] * 10
    chosen = _unit(index.vectors(sample.tolist()))
    cosines = chosen @ chosen.T
    np.fill_diagonal(cosines, -1)
    counts, _ = np.histogram(cosines.max(axis=1).clip(0, 1), bins=10, range=(0, 1))
    return [float(count) / len(sample) for count in counts]


def _unit(rows: np.ndarray) -> np.ndarray:
    return rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-12)


def survey_key(workspace: Workspace, pipeline: Pipeline, branch: dict[str, Any]) -> str:
    """What a survey of structures was measured on: the chunks, the encoder and the metric."""
    chunking = chunking_of(workspace, pipeline.recipe)
    return f"{chunking.key if chunking else ''} {pipeline.encoders[branch['id']].digest} {branch['metric']}"


def survey_stage(workspace: Workspace, pipeline: Pipeline) -> dict[str, Any]:
    """The measured structures of the dense branch, if they have been measured."""
    branch = dense_branch(pipeline)
    found = None
    if branch is not None:
        found = Survey.objects.filter(workspace=workspace, key=survey_key(workspace, pipeline, branch)).first()
    job = workspace.jobs.filter(kind="survey").order_by("-pk").first()
    return {
        "points": found.points if found else [],
        "questions": found.questions if found else 0,
        "measured_at": found.measured_at if found else None,
        "job": job,
    }


def neighbours(pipeline: Pipeline, chunk: int, depth: int) -> tuple[list[int], list[float]]:
    """The chunks nearest to one, itself left out."""
    branch = dense_branch(pipeline)
    assert branch is not None
    index = pipeline.vectors[branch["id"]]
    ids, scores = index.search(index.vectors([chunk])[0], depth + 1)
    return [n for n in ids.tolist() if n != chunk][:depth], [
        float(score) for n, score in zip(ids.tolist(), scores, strict=True) if n != chunk
    ][:depth]


def vector_map(pipeline: Pipeline, question: str | None, hits: int, answers: list[int]) -> dict[str, Any]:
    """Chunks on the two principal axes, with a question, its first hits and its answers among them."""
    branch = dense_branch(pipeline)
    assert branch is not None
    index = pipeline.vectors[branch["id"]]
    vectors = joined(index).rows
    if index not in _axes:
        _axes[index] = principal_axes(vectors)
    mean, axes, shares = _axes[index]
    shown = np.arange(index.count)
    if len(shown) > MAPPED:
        shown = np.sort(np.random.default_rng(0).choice(index.count, MAPPED, replace=False))
    found: list[int] = []
    place = None
    if question:
        encoded = pipeline.encoders[branch["id"]].questions([question])
        found = index.search(encoded[0], hits, branch["structure"])[0].tolist()
        place = ((encoded[0] - mean) @ axes.T).tolist()
    shown = np.unique(np.concatenate([shown, np.array(found + answers, np.int64)]))
    points = (vectors[shown] - mean) @ axes.T
    return {
        "shares": shares.tolist(),
        "chunks": shown.tolist(),
        "documents": pipeline.chunks.document[shown].tolist(),
        "x": np.round(points[:, 0], 4).tolist(),
        "y": np.round(points[:, 1], 4).tolist(),
        "question": place,
        "hits": found,
        "answers": answers,
        "total": index.count,
    }


def close_stage(pipeline: Pipeline, above: float) -> dict[str, Any]:
    """Pairs of chunks that are nearly the same to the encoder."""
    branch = dense_branch(pipeline)
    assert branch is not None
    index = pipeline.vectors[branch["id"]]
    if index.count > PAIRS_UP_TO:
        return {"count": None, "up_to": PAIRS_UP_TO, "pairs": []}
    pairs, cosines, count = close_pairs(_unit(joined(index).rows), above, PAIRS_LISTED)
    return {
        "count": count,
        "up_to": PAIRS_UP_TO,
        "pairs": [
            {"one": int(one), "other": int(other), "cosine": float(cosine)}
            for (one, other), cosine in zip(pairs, cosines, strict=True)
        ],
    }


def encoders_listed() -> list[dict[str, Any]]:
    """Encoders that a recipe can name."""
    return [
        {
            "name": folder.name,
            "title": folder.title,
            "dimension": folder.dimension,
            "max_tokens": folder.max_tokens,
            "made_for": folder.made_for,
            "warning": folder.warning,
            "remote": folder.kind != "encoder",
        }
        for folder in models.listed()
    ]
