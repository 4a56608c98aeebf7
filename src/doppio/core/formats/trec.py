"""TREC files: a run (question, Q0, item, rank, score, tag) and judgements (question, 0, item, grade)."""

from collections.abc import Iterator

import regex

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.trial import Trial


def run_lines(trial: Trial, table: ChunkTable, documents: list[str], tag: str) -> Iterator[str]:
    """The last stage of every question's trace.

    Notes
    -----
    An item is `document:start-end`, the chunk's range, so that it means the same after another chunking. White
    space in ids becomes `_`. Scores are those of the last stage.
    """
    for row in trial.rows:
        stage = row.trace.stages[-1]
        for rank, (chunk, score) in enumerate(
            zip(stage.passed.tolist(), stage.scores[stage.kept].tolist(), strict=True), 1
        ):
            yield f"{_word(row.question.id)} Q0 {item(table, documents, chunk)} {rank} {score:.6f} {_word(tag)}"


def qrels_lines(trial: Trial, table: ChunkTable, documents: list[str]) -> Iterator[str]:
    """Every relevant chunk of every question, with the highest grade among the spans it is relevant to."""
    for row in trial.rows:
        grades: dict[int, float] = {}
        for chunks, grade in zip(row.relevance.chunks, row.relevance.grades.tolist(), strict=True):
            for chunk in chunks.tolist():
                grades[chunk] = max(grade, grades.get(chunk, 0.0))
        for chunk, grade in sorted(grades.items()):
            yield f"{_word(row.question.id)} 0 {item(table, documents, chunk)} {grade:g}"


def item(table: ChunkTable, documents: list[str], chunk: int) -> str:
    """Name of a chunk: its document and its range."""
    return f"{_word(documents[int(table.document[chunk])])}:{table.start[chunk]}-{table.end[chunk]}"


def _word(text: str) -> str:
    return str(regex.sub(r"\s", "_", text))
