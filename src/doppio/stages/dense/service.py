"""A dense branch as a whole: what its index holds, what it costs, how close chunks are."""

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from doppio.core.branches.dense.index import VECTORS, DenseIndex
from doppio.core.branches.dense.pairs import close_pairs
from doppio.core.branches.dense.survey import joined, principal_axes
from doppio.core.branches.kind import DENSE
from doppio.core.branches.query import Query
from doppio.core.branches.vector import DenseBranch
from doppio.core.errors import RecipeError
from doppio.core.pipeline import Pipeline
from doppio.library.models import Workspace
from doppio.library.texts import RecordedTexts
from doppio.recipes.builds import indexes_of
from doppio.recipes.models import Index
from doppio.stages.asking import branch_as, chosen_branch, of_family

COMPARED = 4000
MAPPED = 3000
# Found once for an opened index: every chunk is read for them.
_axes: WeakKeyDictionary[DenseIndex, tuple[Any, Any, Any]] = WeakKeyDictionary()
PAIRS_LISTED, PAIRS_UP_TO = 60, 30_000
# A spread of lengths from which on they weigh as much as what the vectors say.
UNEQUAL = 0.1


def dense_stage(workspace: Workspace, pipeline: Pipeline, wanted: str | None) -> dict[str, Any]:
    """The dense branches of a recipe, and the facts of one of them; None where its kind has no vectors."""
    identity = chosen_branch(pipeline, DENSE, wanted)
    branch = branch_as(pipeline, identity, DenseBranch)
    records = indexes_of(workspace, pipeline.recipe).get(identity or "", [])
    opened = pipeline.branches.get(identity) if identity else None
    return {
        "branches": of_family(pipeline, DENSE),
        "branch": identity,
        "facts": _facts(branch, records) if branch else None,
        "figures": [asdict(figure) for figure in getattr(opened, "figures", [])],
        "measure": opened.measure if opened else "",
        "surveys": hasattr(opened, "survey"),
        "by_token": hasattr(opened, "matches"),
        "by_patch": hasattr(opened, "shaded"),
        "chunks": len(pipeline.chunks),
        "settings": next((row for row in pipeline.recipe.branches if row["id"] == identity), {}),
    }


def _unequal(index: DenseIndex) -> str:
    """A warning where long vectors win by their length."""
    spread = index.length_spread
    if spread < UNEQUAL:
        return ""
    return (
        f"Lengths of the vectors spread by {spread:.2f} (standard deviation of their logarithm): with "
        "the inner product long ones come first, whatever they say. The cosine does not look at lengths."
    )


def dense_branch(pipeline: Pipeline, wanted: str | None = None) -> DenseBranch | None:
    """The dense branch that is asked for, or the first that has vectors."""
    if wanted:
        return branch_as(pipeline, chosen_branch(pipeline, DENSE, wanted), DenseBranch)
    return next((branch for branch in pipeline.branches.values() if isinstance(branch, DenseBranch)), None)


def _facts(branch: DenseBranch, own: Sequence[Index]) -> dict[str, Any]:
    index, encoder = branch.index, branch.encoder
    seconds = [record.meta.get("seconds") for record in own if record.kind == VECTORS]
    return {
        "encoder": encoder.name,
        "title": encoder.title,
        "warning": " ".join(filter(None, [encoder.warning, _unequal(index)])),
        "max_tokens": encoder.max_tokens,
        "dimension": index.dimension,
        "metric": branch.settings["metric"],
        "measure": branch.measure,
        "structure": branch.settings["structure"],
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


def neighbours(branch: DenseBranch, chunk: int, depth: int) -> tuple[list[int], list[float]]:
    """The chunks nearest to one, itself left out."""
    index = branch.index
    ids, scores = index.search(index.vectors([chunk])[0], depth + 1)
    return [n for n in ids.tolist() if n != chunk][:depth], [
        float(score) for n, score in zip(ids.tolist(), scores, strict=True) if n != chunk
    ][:depth]


def vector_map(
    pipeline: Pipeline, branch: DenseBranch, question: str | None, hits: int, answers: list[int]
) -> dict[str, Any]:
    """Chunks on the two principal axes, with a question, its first hits and its answers among them."""
    index = branch.index
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
        encoded = branch.encoder.questions([question])
        found = index.search(encoded[0], hits, branch.settings["structure"])[0].tolist()
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


def close_stage(branch: DenseBranch, above: float) -> dict[str, Any]:
    """Pairs of chunks that are nearly the same to the encoder."""
    index = branch.index
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


def shaded_sheets(pipeline: Pipeline, identity: str, query: Query, chunk: int) -> list[dict[str, Any]]:
    """The pages that a chunk stands on, and which patch of them answers which token.

    Raises
    ------
    RecipeError
        If the branch does not say it.
    """
    shaded = getattr(pipeline.branches.get(identity), "shaded", None)
    if shaded is None:
        raise RecipeError(f"branch: {identity!r} is no branch of this recipe that looks at patches of pages")
    assert isinstance(pipeline.texts, RecordedTexts)
    (document,) = pipeline.texts.owners([chunk])
    return [
        {
            "document": document,
            "page": sheet.page,
            "picture": sheet.picture,
            "score": sheet.score,
            "places": np.round(sheet.places, 5).tolist(),
            "matches": [
                {"token": one.token, "weight": one.weight, "best": one.best,
                 "cosines": np.round(one.cosines.astype(float), 3).tolist()}
                for one in sheet.matches
            ],
        }
        for sheet in shaded(query, chunk)
    ]  # fmt: skip
