"""A sparse branch as a whole, and why it scores chunks as it does."""

from collections.abc import Mapping, Sequence
from typing import Any

from doppio.core.branches.kind import SPARSE
from doppio.core.branches.query import Query
from doppio.core.branches.sparse.term_branch import TermBranch
from doppio.core.pipeline import Pipeline
from doppio.library.models import Workspace
from doppio.recipes.builds import indexes_of
from doppio.recipes.models import Index
from doppio.stages.asking import branch_as, chosen_branch, of_family

LISTED = 12


def sparse_stage(workspace: Workspace, pipeline: Pipeline, wanted: str | None) -> dict[str, Any]:
    """The sparse branches of a recipe, and the facts of one of them; None where its kind has no terms."""
    identity = chosen_branch(pipeline, SPARSE, wanted)
    branch = branch_as(pipeline, identity, TermBranch)
    records = indexes_of(workspace, pipeline.recipe).get(identity or "", [])
    return {
        "branches": of_family(pipeline, SPARSE),
        "branch": identity,
        "facts": _facts(branch, records) if branch else None,
    }


def _facts(opened: TermBranch, own: Sequence[Index]) -> dict[str, Any]:
    branch, body = opened.settings, opened.body
    held = body.vocabulary()
    order = sorted(held, key=lambda term: (-held[term], term))
    weighting = opened.weighting

    def row(term: str) -> dict[str, Any]:
        return {"term": term, "chunks": held[term], "idf": weighting.idf(body.count, held[term])}

    return {
        "measure": opened.measure,
        "variant": weighting.variant,
        "fields": [
            {"name": name, "mean": field.mean, **{key: branch["fields"][name][key] for key in ("weight", "b")}}
            for name, field in opened.fields.items()
        ],
        "terms": len(held),
        "entries": sum(record.meta.get("entries", 0) for record in own),
        "bytes": sum(record.bytes for record in own),
        "segments": len(body.segments),
        "mean": body.mean,
        "adds": hasattr(opened, "added_to"),
        "lends": getattr(opened, "lending", None) is not None,
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
    without: frozenset[str] = frozenset(),
) -> list[dict[str, Any]]:
    """Term by term, why a branch scores chunks as it does, and where their texts hold those terms."""
    if identity is None or not chunks:
        return []
    branch = pipeline.branches[identity]
    if hasattr(branch, "explain_asked"):
        rows = branch.explain_asked(Query(question, words, without), list(chunks))
    else:
        rows = branch.explain(question, list(chunks))
    return [
        {
            "chunk": chunk,
            "length": row.length,
            "near": row.near,
            "lent": row.lent,
            "terms": [
                {
                    "term": share.term,
                    "chunks": share.chunks_with_term,
                    "idf": share.idf,
                    "in_question": share.in_question,
                    "in_chunk": share.in_chunk,
                    "share": share.share,
                    "added_to_question": share.added_to_question,
                    "added_to_chunk": share.added_to_chunk,
                }
                for share in row.terms
            ],
            "found": [{"start": start, "end": end} for start, end in row.found],
        }
        for chunk, row in zip(chunks, rows, strict=False)
    ]


def added_to(pipeline: Pipeline, identity: str | None, chunk: int) -> list[dict[str, Any]]:
    """The terms that a branch added to a chunk when it was indexed; none where its kind adds none."""
    find = getattr(pipeline.branches.get(identity or ""), "added_to", None)
    return [{"term": added.term, "weight": added.weight} for added in find([chunk])[0]] if find else []
