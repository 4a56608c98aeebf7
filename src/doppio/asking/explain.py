"""A trace made readable: the chunks that it names, with their texts, terms and answers."""

from typing import Any

import numpy as np

from doppio.core.measure.relevance import Relevance
from doppio.core.pipeline import Pipeline
from doppio.core.sparse.bm25 import explain
from doppio.core.text.analysis import Analysis
from doppio.core.trace import Trace
from doppio.indexing.services import chunking_of
from doppio.library.models import Chunk, Workspace
from doppio.library.services import section_headings

SHOWN = 20


def shown_chunks(trace: Trace, relevance: Relevance | None) -> list[int]:
    """Numbers of the chunks that people look at: the top of every stage, and the relevant ones."""
    found = {int(chunk) for stage in trace.stages for chunk in stage.chunks[:SHOWN]}
    if relevance is not None:
        found |= {int(chunk) for chunks in relevance.chunks for chunk in chunks}
    return sorted(found)


def traced_chunks(
    workspace: Workspace, pipeline: Pipeline, trace: Trace, relevance: Relevance | None
) -> list[dict[str, Any]]:
    """What the API says of each chunk of a trace; three queries, however many there are."""
    numbers = shown_chunks(trace, relevance)
    chunking = chunking_of(workspace, pipeline.recipe)
    rows = Chunk.objects.filter(chunking=chunking, number__in=numbers).order_by("number").select_related("document")
    rows = rows.defer("document__text", "document__blocks")
    texts = dict(zip(numbers, pipeline.texts.texts(numbers), strict=True))
    paths = section_headings({row.document_id for row in rows})
    branch = _sparse_branch(pipeline)
    analysis = Analysis(**branch["analysis"]) if branch else None
    terms = {term.text for term in analysis.terms(trace.question)} if analysis else set()
    relevant = set(np.concatenate([[], *(relevance.chunks if relevance else ())]).astype(int).tolist())
    spans = [span for span in (relevance.ranges if relevance else ()) if span is not None]
    nested = [row.number for row in rows if (row.host_start, row.host_end) != (row.start, row.end)]
    hosts = dict(zip(nested, pipeline.texts.hosts(nested), strict=True))
    found = []
    for row in rows:
        position = int(pipeline.chunks.document[row.number])
        found.append(
            {
                "number": row.number,
                "document": row.document_id,
                "title": row.document.title,
                "section": paths.get((row.document_id, row.section), []),
                "start": row.start,
                "end": row.end,
                "tokens": row.tokens,
                "host": {
                    "start": row.host_start,
                    "end": row.host_end,
                    "text": hosts[row.number],
                    "answers": _inside(spans, position, row.host_start, row.host_end),
                }
                if row.number in hosts
                else None,
                "handed": row.handed,
                "carried": row.document.carried,
                "text": texts[row.number],
                "relevant": row.number in relevant,
                "answers": _inside(spans, position, row.start, row.end),
                "terms": _found_terms(analysis, terms, texts[row.number]),
            }
        )
    return found


def _inside(spans: list[tuple[int, int, int]], position: int, low: int, high: int) -> list[dict[str, int]]:
    """Parts of the answers within a range of a document, counted from its start."""
    return [
        {"start": max(start, low) - low, "end": min(end, high) - low}
        for place, start, end in spans
        if place == position and start < high and end > low
    ]


def explained(pipeline: Pipeline, trace: Trace, relevance: Relevance | None) -> list[dict[str, Any]]:
    """Term by term, why the sparse branch scored its first chunks and the relevant ones as it did."""
    branch = _sparse_branch(pipeline)
    if branch is None:
        return []
    chunks = [int(chunk) for chunk in trace.stage(branch["id"]).chunks[:SHOWN]]
    extra = {int(chunk) for relevant in (relevance.chunks if relevance else ()) for chunk in relevant}
    chunks += sorted(extra - set(chunks))[:SHOWN]
    terms = [term.text for term in Analysis(**branch["analysis"]).terms(trace.question)]
    rows = explain(pipeline.postings[branch["id"]], terms, chunks, k1=branch["k1"], b=branch["b"])
    return [
        {
            "chunk": chunk,
            "terms": [
                {
                    "term": share.term,
                    "chunks": share.chunks_with_term,
                    "idf": share.idf,
                    "in_chunk": share.in_chunk,
                    "share": share.share,
                }
                for share in row
            ],
        }
        for chunk, row in zip(chunks, rows, strict=True)
    ]


def _sparse_branch(pipeline: Pipeline) -> dict[str, Any] | None:
    return next((branch for branch in pipeline.recipe.branches if branch["kind"] == "bm25"), None)


def _found_terms(analysis: Analysis | None, terms: set[str], text: str) -> list[dict[str, int]]:
    if analysis is None or not terms:
        return []
    ranges = {(term.start, term.end) for term in analysis.terms(text) if term.text in terms}
    kept: list[tuple[int, int]] = []
    for start, end in sorted(ranges, key=lambda span: (span[0], -span[1])):
        if not kept or start >= kept[-1][1]:
            kept.append((start, end))
    return [{"start": start, "end": end} for start, end in kept]
