"""What the assistant gets for a question: pieces with their citations, and the whole as it is written out."""

from collections.abc import Sequence
from dataclasses import asdict
from itertools import takewhile
from typing import Any

from doppio.core.measure.answers import answer_figures
from doppio.core.measure.judged import Range
from doppio.core.measure.relevance import Relevance
from doppio.core.pipeline import Pipeline
from doppio.core.select.answer.pieces import Piece, pieces_of
from doppio.core.select.writing import BETWEEN, Citable, written
from doppio.core.trace import CONTEXT, StageTrace, Trace
from doppio.library.texts import RecordedTexts, figures_between
from doppio.stages.asked.inside import inside


def handed_body(pipeline: Pipeline, trace: Trace, relevance: Relevance | None) -> dict[str, Any]:
    """What the API says of a context; a few queries, however many pieces."""
    stage = trace.stage(CONTEXT)
    pieces = pieces_of(stage, pipeline.chunks)
    texts = pipeline.texts
    assert isinstance(texts, RecordedTexts)
    firsts = [int(stage.chunks[piece.rows[0]]) for piece in pieces]
    # It looks at the documents, and what it learns of them is at hand then.
    read = texts.cited(firsts, [piece.range[1] for piece in pieces], [piece.range[2] for piece in pieces])
    owners, facts = texts.owners(firsts), texts.facts(firsts)
    spans = [span for span in (relevance.ranges if relevance else ()) if span is not None]
    template = pipeline.recipe.select["template"]
    found, parts = [], []
    for number, (piece, owner, told) in enumerate(zip(pieces, owners, read, strict=True), 1):
        document, start, end = piece.range
        section = _common([facts[owner].paths.get(own, []) for own in _sections(pipeline, piece.range)])
        citable = Citable(
            number,
            facts[owner].title,
            section,
            told.page,
            told.lines,
            told.text,
            dict(facts[owner].carried),
        )
        parts.append(written(template, citable))
        found.append(
            {
                "number": number,
                "document": owner,
                "title": citable.title,
                "section": section,
                "page": citable.page,
                "lines": list(citable.lines),
                "link": citable.link,
                "start": start,
                "end": end,
                "text": told.text,
                "answers": inside(spans, document, start, end),
                "chunks": [int(stage.chunks[row]) for row in piece.rows],
                "widened": next((stage.widened[row] for row in piece.rows if row < len(stage.widened)), ""),
                "found": _found(pipeline, stage, piece),
                "carried": citable.carried,
                "figures": figures_between(facts[owner].figures, start, end),
            }
        )
    whole = BETWEEN.join(parts)
    counting = pipeline.budget or pipeline.tokens
    tokens = 0 if counting is None else int(counting.token_counts([whole])[0])
    worth = answer_figures(trace, relevance, pipeline.chunks, texts) if relevance else None
    return {
        "pieces": found,
        "written": whole,
        "tokens": tokens,
        "answer": worth and {**asdict(worth), "cited": worth.cited},
    }


def _sections(pipeline: Pipeline, range: Range) -> list[int]:
    """The sections of the chunks that stand in a range."""
    table = pipeline.chunks
    rows = table.of_document(range[0])
    within = (table.end[rows] > range[1]) & (table.start[rows] < range[2])
    return sorted(set(table.section[rows][within].tolist()))


def _common(paths: Sequence[Sequence[str]]) -> list[str]:
    """The headings that all paths begin with."""
    return [level[0] for level in takewhile(lambda level: len(set(level)) == 1, zip(*paths, strict=False))]


def _found(pipeline: Pipeline, stage: StageTrace, piece: Piece) -> list[dict[str, int]]:
    """What was found inside of a piece, counted from its start."""
    table, found = pipeline.chunks, []
    for row in piece.rows:
        chunk = int(stage.chunks[row])
        found.append(
            {"start": int(table.start[chunk]) - piece.range[1], "end": int(table.end[chunk]) - piece.range[1]}
        )
    return sorted(found, key=lambda one: one["start"])
