"""A sparse branch as a whole, and why it scores chunks as it does."""

from collections.abc import Mapping, Sequence
from typing import Any

from doppio.core.branches.bm25 import SparseBranch
from doppio.core.branches.kind import SPARSE
from doppio.core.branches.query import Query
from doppio.core.branches.sparse.fields import FieldedIndex
from doppio.core.branches.sparse.weighting import Weighting
from doppio.core.pipeline import Pipeline
from doppio.library.models import Workspace
from doppio.recipes.builds import indexes_of
from doppio.recipes.models import Index
from doppio.stages.asking import branch_as, chosen_branch, of_family

LISTED = 12


def sparse_stage(workspace: Workspace, pipeline: Pipeline, wanted: str | None) -> dict[str, Any]:
    """The sparse branches of a recipe, and the facts of one of them; None where its kind has no terms."""
    identity = chosen_branch(pipeline, SPARSE, wanted)
    branch = branch_as(pipeline, identity, SparseBranch)
    records = indexes_of(workspace, pipeline.recipe).get(identity or "", [])
    return {
        "branches": of_family(pipeline, SPARSE),
        "branch": identity,
        "facts": _facts(branch, records) if branch else None,
    }


def _facts(opened: SparseBranch, own: Sequence[Index]) -> dict[str, Any]:
    branch, index, body = opened.settings, opened.index, opened.body
    fields = index.fields if isinstance(index, FieldedIndex) else {}
    held = body.vocabulary()
    order = sorted(held, key=lambda term: (-held[term], term))
    weighting = Weighting(branch["variant"])

    def row(term: str) -> dict[str, Any]:
        return {"term": term, "chunks": held[term], "idf": weighting.idf(body.count, held[term])}

    return {
        "measure": opened.measure,
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


def explained(
    pipeline: Pipeline,
    identity: str | None,
    question: str,
    chunks: Sequence[int],
    words: Mapping[str, float] | None = None,
) -> list[dict[str, Any]]:
    """Term by term, why a branch scores chunks as it does, and where their texts hold those terms."""
    if identity is None or not chunks:
        return []
    branch = pipeline.branches[identity]
    if words is not None and hasattr(branch, "explain_asked"):
        rows = branch.explain_asked(Query(question, words), list(chunks))
    else:
        rows = branch.explain(question, list(chunks))
    return [
        {
            "chunk": chunk,
            "length": row.length,
            "terms": [
                {
                    "term": share.term,
                    "chunks": share.chunks_with_term,
                    "idf": share.idf,
                    "in_chunk": share.in_chunk,
                    "share": share.share,
                }
                for share in row.terms
            ],
            "found": [{"start": start, "end": end} for start, end in row.found],
        }
        for chunk, row in zip(chunks, rows, strict=False)
    ]
