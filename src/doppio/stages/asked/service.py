"""A trace made readable: the chunks that it names, with their texts and answers."""

from collections.abc import Mapping
from typing import Any

import numpy as np

from doppio.core.measure.ledger import in_play
from doppio.core.measure.relevance import Relevance
from doppio.core.pipeline import Pipeline
from doppio.core.trace import Trace
from doppio.library.models import Workspace
from doppio.library.texts import RecordedTexts, figures_between, section_headings
from doppio.questions.models import Question
from doppio.questions.services import is_lost
from doppio.recipes.opened import absent
from doppio.recipes.services import stage_kinds
from doppio.stages.asked.handed import handed_body
from doppio.stages.asked.inside import inside

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
                    "answers": inside(spans, row["document"], row["host_start"], row["host_end"]),
                }
                if number in hosts
                else None,
                "carried": document.carried,
                "figures": figures_between(document.figures, row["start"], row["end"]),
                "text": shown[number],
                "relevant": number in relevant,
                "answers": inside(spans, row["document"], row["start"], row["end"]),
            }
        )
    return found


NAMED, ASKED_SHOWN = 20, 50


def question_row(row: Question, found: Mapping[str, Any] | None) -> dict[str, Any]:
    """A question as lists show it, with what a trial found for it."""
    return question_fields(row, found, any(span.counts for span in row.spans.all()), is_lost(row))


def question_fields(row: Question, found: Mapping[str, Any] | None, answered: bool, lost: bool) -> dict[str, Any]:
    """The same where it is known whether it has answers, and whether it had some that all lost their place."""
    return {
        "id": row.pk,
        "identity": row.identity,
        "text": row.text,
        "tags": row.tags,
        "answerable": answered,
        "unanswerable": row.unanswerable,
        "lost": lost,
        "set": row.set_id,
        "group": row.group,
        "only": row.only,
        "picture": row.picture,
        "share": row.share,
        "cause": found["cause"] if found else None,
        "ranks": found["ranks"] if found else {},
        "intact": any(found["intact"]) if found and found["intact"] else None,
    }


def labelled_body(row: Question) -> dict[str, Any]:
    """A question with its labels, before any index can be asked."""
    return {
        "built": False,
        "absent": {"count": 0, "documents": []},
        "kinds": {},
        "sees": False,
        "question": question_row(row, None),
        "spans": shown_spans(row, None),
        "no_answers": no_answers(row),
        "trace": Trace(row.text, "", (), 0).to_json(),
        "cause": None,
        "in_play": {},
        "ranks": {},
        "chunks": [],
        "handed": {"pieces": [], "written": "", "tokens": 0, "answer": None},
    }


def no_answers(row: Question) -> list[dict[str, Any]]:
    """Ranges in which somebody found no answer."""
    return [
        {"id": span.pk, "document": span.document_id, "start": span.start, "end": span.end}
        for span in row.spans.all()
        if not span.lost and span.grade == 0
    ]


def asked_body(space: Workspace, pipeline: Pipeline, trace: Trace, relevant: Relevance | None) -> dict[str, Any]:
    missing = absent(space, pipeline)
    return {
        "built": True,
        "absent": {"count": len(missing), "documents": [{"id": pk, "title": title} for pk, title in missing[:NAMED]]},
        "kinds": stage_kinds(pipeline.recipe),
        "sees": any(getattr(branch, "sees", False) for branch in pipeline.branches.values()),
        "question": None,
        "spans": [],
        "no_answers": [],
        "trace": trace.to_json(),
        "cause": None,
        "in_play": in_play(trace, relevant) if relevant is not None else {},
        "ranks": {stage.stage: relevant.at(stage).first(stage.chunks) for stage in trace.stages} if relevant else {},
        "chunks": traced_chunks(pipeline, trace, relevant),
        "handed": handed_body(pipeline, trace, relevant),
    }


def shown_spans(row: Question, relevant: Relevance | None) -> list[dict[str, Any]]:
    """The labels of a question, each by itself; `relevant` is `relevance_of_each` of them."""
    placed = [(span, span.document) for span in row.spans.all() if span.counts and span.document is not None]
    paths = section_headings(document.pk for _, document in placed)
    found = []
    chunks_of = [chunks.tolist() for chunks in relevant.chunks] if relevant else [[]] * len(placed)
    intact_of = relevant.intact if relevant else [False] * len(placed)
    for (span, document), chunks, intact in zip(placed, chunks_of, intact_of, strict=True):
        start, end = span.start, span.end
        text = "" if start is None else document.text[start:end]
        inside = [
            section.index
            for section in document.sections.all()
            if start is not None and end is not None and section.start <= start and section.end >= end
        ]
        found.append(
            {
                "id": span.pk,
                "document": document.pk,
                "title": document.title,
                "section": paths.get((document.pk, inside[-1]), []) if inside else [],
                "start": start,
                "end": end,
                "grade": span.grade,
                "text": text,
                "intact": intact,
                "chunks": chunks,
            }
        )
    return found
