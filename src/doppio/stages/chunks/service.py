"""The chunk view: how a way of cutting looks on one document and over all of them, before anything is built."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np

from doppio.core.chunking.quality import INTACT, SHORT_TOKENS, Looks, figures, look, span_state
from doppio.core.chunking.table import ChunkTable
from doppio.core.chunking.twins import near_identical
from doppio.core.text.document import Document as CoreDocument
from doppio.library.corpus import core_document, core_documents
from doppio.library.models import Document, Workspace
from doppio.questions.models import AnswerSpan
from doppio.recipes.builds import models
from doppio.recipes.cutting import cut_all, cut_document

BINS = 16
LISTED = 40
TWINS_UP_TO = 20_000


def cut_view(row: Document, chunking: Mapping[str, Any]) -> dict[str, Any]:
    """Chunks of one document under a chunking, what is wrong with each, and how its answers stand."""
    begun = time.perf_counter()
    document = core_document(row)
    columns, tokens = cut_document(document, chunking)
    limit = models.local().max_tokens
    looked = look(document, columns["start"], columns["end"], columns["context"], tokens, limit)
    took = time.perf_counter() - begun
    names = ("start", "end", "tokens", "context", "host_start", "host_end", "handed")
    chunks = [
        {
            **{name: int(columns[name][place]) for name in names},
            "past": int(looked.past[place]) if looked.past[place] >= 0 else None,
            "begins_inside": bool(looked.begins_inside[place]),
            "ends_inside": bool(looked.ends_inside[place]),
        }
        for place in range(len(columns["start"]))
    ]
    spans = row.spans.counting().filter(start__isnull=False).select_related("question").order_by("start")
    return {
        "document": row.pk,
        "limit": limit,
        "seconds": took,
        "chunks": chunks,
        "answers": [
            {
                "question": span.question_id,
                "text": span.question.text,
                "start": span.start,
                "end": span.end,
                **asdict(span_state(columns["host_start"], columns["host_end"], span.start, span.end)),
            }
            for span in spans
            if span.start is not None and span.end is not None
        ],
    }


def figures_view(workspace: Workspace, chunking: Mapping[str, Any]) -> dict[str, Any]:
    """A way of cutting over all documents: figures, lengths, and lists of what is wrong with it."""
    begun = time.perf_counter()
    documents = core_documents(workspace)
    numbers = dict(workspace.documents.values_list("name", "pk"))
    table, counted = cut_all(documents, chunking)
    limit = models.local().max_tokens
    looks = []
    for position, (document, tokens) in enumerate(zip(documents, counted, strict=True)):
        rows = table.of_document(position)
        looks.append(look(document, table.start[rows], table.end[rows], table.context[rows], tokens, limit))
    positions = {document.id: position for position, document in enumerate(documents)}
    spans = AnswerSpan.objects.filter(question__workspace=workspace, lost=False, start__isnull=False)
    answers = []
    for span in spans.values("question_id", "question__text", "document__name", "start", "end"):
        rows = table.of_document(positions[span["document__name"]])
        state = span_state(table.host_start[rows], table.host_end[rows], span["start"] or 0, span["end"] or 0)
        answers.append((span, state))
    found = figures(table, looks, [state for _, state in answers], SHORT_TOKENS)
    place = _Places(documents, numbers, table)
    twins = near_identical(place.texts()) if len(table) <= TWINS_UP_TO else []
    apart = [pair for pair in twins if not place.overlap(pair.one, pair.other)]
    lengths = table.indexed_tokens
    edges = np.linspace(0, max(int(lengths.max(initial=1)), limit), BINS + 1).round().astype(int)
    counts, _ = np.histogram(lengths, bins=edges)
    return {
        **asdict(found),
        "limit": limit,
        "short": SHORT_TOKENS,
        "twins": len(apart),
        "bins": [
            {"low": int(low), "high": int(high), "chunks": int(count)}
            for low, high, count in zip(edges[:-1], edges[1:], counts, strict=True)
        ],
        "problems": {
            "too_long": place.rows(_worst(looks)),
            "too_short": place.rows(np.flatnonzero(table.tokens < SHORT_TOKENS)),
            "inside": place.rows(_inside(looks)),
            "twins": [place.pair(pair.one, pair.other, pair.alike) for pair in apart[:LISTED]],
            "answers": [
                {
                    "question": span["question_id"],
                    "text": span["question__text"],
                    "document": numbers[span["document__name"]],
                    "title": documents[positions[span["document__name"]]].title,
                    "start": span["start"],
                    **asdict(state),
                }
                for span, state in sorted(answers, key=lambda row: row[1].best)
                if state.state != INTACT
            ],
        },
        "seconds": time.perf_counter() - begun,
    }


def _worst(looks: Sequence[Looks]) -> np.ndarray:
    values = np.concatenate([np.empty(0, np.int64), *(one.unread for one in looks)])
    order = np.argsort(-values, kind="stable")
    return order[: int((values > 0).sum())]


def _inside(looks: Sequence[Looks]) -> np.ndarray:
    return np.flatnonzero(
        np.concatenate([np.empty(0, bool), *(one.begins_inside | one.ends_inside for one in looks)])
    )


class _Places:
    """Chunks of a table as rows that lead to their place."""

    def __init__(self, documents: Sequence[CoreDocument], numbers: Mapping[str, int], table: ChunkTable) -> None:
        self._documents = documents
        self._numbers = numbers
        self._table = table

    def texts(self) -> list[str]:
        table = self._table
        return [
            self._documents[position].text[start:end]
            for position, start, end in zip(
                table.document.tolist(), table.start.tolist(), table.end.tolist(), strict=True
            )
        ]

    def overlap(self, one: int, other: int) -> bool:
        table = self._table
        return bool(
            table.document[one] == table.document[other]
            and table.start[one] < table.end[other]
            and table.start[other] < table.end[one]
        )

    def row(self, chunk: int) -> dict[str, Any]:
        table = self._table
        document = self._documents[int(table.document[chunk])]
        start, end = int(table.start[chunk]), int(table.end[chunk])
        return {
            "number": chunk,
            "document": self._numbers[document.id],
            "title": document.title,
            "start": start,
            "end": end,
            "tokens": int(table.indexed_tokens[chunk]),
            "text": " ".join(document.text[start : min(end, start + 160)].split()),
        }

    def rows(self, chunks: np.ndarray) -> list[dict[str, Any]]:
        return [self.row(chunk) for chunk in chunks[:LISTED].tolist()]

    def pair(self, one: int, other: int, alike: float) -> dict[str, Any]:
        return {"alike": alike, "one": self.row(one), "other": self.row(other)}
