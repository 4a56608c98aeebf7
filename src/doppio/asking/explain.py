"""A trace made readable: the chunks that it names, with their texts and answers; and why terms put them there."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from doppio.core.measure.relevance import Relevance
from doppio.core.pipeline import Pipeline
from doppio.core.sparse.branch import analysis_of
from doppio.core.sparse.branch import explained as branch_explained
from doppio.core.text.analysis import Analysis
from doppio.core.trace import Trace
from doppio.library.services import RecordedTexts, section_headings

SHOWN = 20


def shown_chunks(trace: Trace, relevance: Relevance | None) -> list[int]:
    """Numbers of the chunks that people look at: the top of every stage, and the relevant ones."""
    found = {int(chunk) for stage in trace.stages for chunk in stage.chunks[:SHOWN]}
    if relevance is not None:
        found |= {int(chunk) for chunks in relevance.chunks for chunk in chunks}
    return sorted(found)


def traced_chunks(pipeline: Pipeline, trace: Trace, relevance: Relevance | None) -> list[dict[str, Any]]:
    """What the API says of each chunk of a trace; a few queries, however many there are."""
    numbers = shown_chunks(trace, relevance)
    table, texts = pipeline.chunks, pipeline.texts
    assert isinstance(texts, RecordedTexts)
    owners = texts.owners(numbers)
    facts = texts.facts(numbers)
    shown = dict(zip(numbers, texts.texts(numbers), strict=True))
    relevant = set(np.concatenate([[], *(relevance.chunks if relevance else ())]).astype(int).tolist())
    spans = [span for span in (relevance.ranges if relevance else ()) if span is not None]
    columns = {name: column[numbers].tolist() for name, column in table.columns().items()}
    rows = [dict(zip(columns, values, strict=True)) for values in zip(*columns.values(), strict=True)]
    nested = [
        number
        for number, row in zip(numbers, rows, strict=True)
        if (row["host_start"], row["host_end"]) != (row["start"], row["end"])
    ]
    hosts = dict(zip(nested, texts.hosts(nested), strict=True))
    found = []
    for number, owner, row in zip(numbers, owners, rows, strict=True):
        document = facts[owner]
        found.append(
            {
                "number": number,
                "document": owner,
                "title": document.title,
                "section": document.paths.get(row["section"], []),
                **{name: row[name] for name in ("start", "end", "tokens", "handed")},
                "host": {
                    "start": row["host_start"],
                    "end": row["host_end"],
                    "text": hosts[number],
                    "answers": _inside(spans, row["document"], row["host_start"], row["host_end"]),
                }
                if number in hosts
                else None,
                "carried": document.carried,
                "text": shown[number],
                "relevant": number in relevant,
                "answers": _inside(spans, row["document"], row["start"], row["end"]),
            }
        )
    return found


def brief_chunks(pipeline: Pipeline, numbers: Sequence[int]) -> list[dict[str, Any]]:
    """Where chunks are from, and their texts, in the order asked for; three queries, however many."""
    texts = pipeline.texts
    assert isinstance(texts, RecordedTexts)
    owners = texts.owners(numbers)
    paths = section_headings(set(owners))
    sections, starts = (getattr(pipeline.chunks, name)[list(numbers)].tolist() for name in ("section", "start"))
    rows = zip(numbers, owners, texts.titles(numbers), sections, starts, texts.texts(numbers), strict=True)
    return [
        {
            "number": number, "document": owner, "title": title, "section": paths.get((owner, section), []),
            "start": start, "text": text,
        }
        for number, owner, title, section, start, text in rows
    ]  # fmt: skip


def _inside(spans: list[tuple[int, int, int]], position: int, low: int, high: int) -> list[dict[str, int]]:
    """Parts of the answers within a range of a document, counted from its start."""
    return [
        {"start": max(start, low) - low, "end": min(end, high) - low}
        for place, start, end in spans
        if place == position and start < high and end > low
    ]


def explained(pipeline: Pipeline, question: str, chunks: Sequence[int]) -> list[dict[str, Any]]:
    """Term by term, why the sparse branch scores chunks as it does, and where their texts hold those terms."""
    branch = sparse_branch(pipeline)
    if branch is None or not chunks:
        return []
    analysis = analysis_of(branch["analysis"])
    wanted = {term.text for term in analysis.asked(question)}
    rows, lengths = branch_explained(branch, pipeline.postings[branch["id"]], question, list(chunks))
    return [
        {
            "chunk": chunk,
            "length": length,
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
            "found": _found_terms(analysis, wanted, text),
        }
        for chunk, row, length, text in zip(chunks, rows, lengths, pipeline.texts.texts(chunks), strict=True)
    ]


def sparse_branch(pipeline: Pipeline) -> dict[str, Any] | None:
    """The recipe's first sparse branch."""
    return next((branch for branch in pipeline.recipe.branches if branch["kind"] == "bm25"), None)


def _found_terms(analysis: Analysis, terms: set[str], text: str) -> list[dict[str, int]]:
    if not terms:
        return []
    ranges = {(term.start, term.end) for term in analysis.terms(text) if term.text in terms}
    kept: list[tuple[int, int]] = []
    for start, end in sorted(ranges, key=lambda span: (span[0], -span[1])):
        if not kept or start >= kept[-1][1]:
            kept.append((start, end))
    return [{"start": start, "end": end} for start, end in kept]
