"""TREC runs from elsewhere, measured as any other ranking: items are documents, or ranges of them."""

from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np
import regex

from doppio.core.chunking.table import ChunkTable
from doppio.core.errors import DoppioError
from doppio.core.measure.measuring import Metrics, measure
from doppio.core.measure.questions import Question
from doppio.core.measure.relevance import COVER, document_positions, relevance
from doppio.core.text.document import Document

_RANGE = regex.compile(r"(?P<document>.*):(?P<start>\d+)-(?P<end>\d+)")
_SPACE = regex.compile(r"\s")
Item = tuple[int, int, int]


def read_run(path: Path, documents: Sequence[Document], questions: Sequence[Question]) -> dict[str, list[Item]]:
    """Rankings by question of a file; see `run_lines`."""
    with path.open(encoding="utf-8") as lines:
        return run_lines(lines, str(path), documents, questions)


def run_lines(
    lines: Iterable[str], name: str, documents: Sequence[Document], questions: Sequence[Question]
) -> dict[str, list[Item]]:
    """Rankings by question, best first.

    Parameters
    ----------
    lines : iterable of str
        Lines `question Q0 item rank score tag`; an item is a document, or `document:start-end` in characters.
    name : str
        Of the file, for messages.
    documents, questions
        Whose ids it names; white space in them is `_` there, as TREC files have it.

    Returns
    -------
    dict
        By question triples (document position, start, end); a whole document is all of its text.

    Raises
    ------
    DoppioError
        If a line has another shape, or names a document, a range or a question that is not there; names the line.

    Notes
    -----
    The order is that of the scores; of equal ones that of the ranks. What the ranks say is else not looked at, as in
    the field's own tools.
    """
    places = {_SPACE.sub("_", document.id): place for place, document in enumerate(documents)}
    names = {_SPACE.sub("_", question.id): question.id for question in questions}
    found: dict[str, list[tuple[float, int, Item]]] = {question.id: [] for question in questions}
    for number, line in enumerate(lines, 1):
        where = f"{name}, line {number}"
        fields = line.split()
        if not fields:
            continue
        if len(fields) != 6:
            raise DoppioError(f"{where}: {len(fields)} fields; a run has question, Q0, item, rank, score and tag")
        question, _, item, rank, score, _ = fields
        if question not in names:
            raise DoppioError(f"{where}: no labelled question has the id {question!r}")
        try:
            key = (-float(score), int(rank))
        except ValueError as error:
            raise DoppioError(f"{where}: rank {rank!r} and score {score!r} are not numbers") from error
        if not np.isfinite(key[0]):
            raise DoppioError(f"{where}: score {score!r} is not a finite number")
        found[names[question]].append((*key, _item(item, places, documents, where)))
    return {
        question: list(dict.fromkeys(item for _, _, item in sorted(rows, key=lambda row: row[:2])))
        for question, rows in found.items()
    }


def _item(text: str, places: dict[str, int], documents: Sequence[Document], where: str) -> Item:
    if text in places:
        return places[text], 0, len(documents[places[text]].text)
    parts = _RANGE.fullmatch(text)
    if parts is None or parts["document"] not in places:
        example = f"{next(iter(places), 'document')}:0-80"
        raise DoppioError(f"{where}: {text!r} is no document here, and no range of one such as {example}")
    place, start, end = places[parts["document"]], int(parts["start"]), int(parts["end"])
    if not start < end <= len(documents[place].text):
        length = len(documents[place].text)
        raise DoppioError(f"{where}: {text!r}: the document has {length} characters, so it has no such range")
    return place, start, end


def measured_run(
    rankings: dict[str, list[Item]],
    documents: Sequence[Document],
    questions: Sequence[Question],
    *,
    cutoffs: Sequence[int],
    cover: float = COVER,
) -> dict[str, Metrics]:
    """Metrics by answerable question, as `measure` has them for rankings of chunks.

    Notes
    -----
    The items of all rankings are taken for the chunks of a corpus of their own, where the same range is one chunk.
    """
    items = sorted({item for ranking in rankings.values() for item in ranking})
    numbers = {item: place for place, item in enumerate(items)}
    columns = np.array(items, np.int64).reshape(len(items), 3).T
    nothing = np.zeros(len(items), np.int64)
    table = ChunkTable.flat(columns[0], columns[1], columns[2], nothing, nothing - 1)
    positions = document_positions([document.id for document in documents])
    found = {}
    for question in questions:
        if question.answerable:
            ranking = np.array([numbers[item] for item in rankings.get(question.id, [])], np.int64)
            found[question.id] = measure(ranking, relevance(table, positions, question, cover), table, cutoffs)
    return found
