"""A writer, an answerer or an expander behind an HTTP endpoint, by small protocols of our own.

A writer's `GET {url}/model` answers with `"kind": "writer"`, `name` and `version`. `POST {url}/write` takes
`{"format": "doppio-write/1", "question": "...", "about": "...", "language": "en", "most": 3}` and answers with
`{"wordings": ["...", ...]}`.

An answerer's `/model` has `"kind": "answerer"`. `POST {url}/answer` takes `{"format": "doppio-answer/1",
"question": "...", "passages": [{"number": 1, "place": "...", "text": "..."}, ...]}` and answers with a JSON object a
line, as its sentences come: `{"text": "...", "cites": [1]}`, or `{"silent": "why"}` where it says nothing, and last
`{"done": true}`.

An expander's `/model` has `"kind": "expander"`. `POST {url}/expand` takes `{"format": "doppio-expand/1", "as":
"question" or "passage", "texts": [...], "most": 40}` and answers with `{"terms": [[["word", 0.8], ...], ...]}`, for
each text at most so many words with weights above 0, 1 at most. A key goes along as `Authorization: Bearer KEY`.
"""

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, Protocol

from doppio.core.errors import RemoteError
from doppio.core.fingerprint import fingerprint
from doppio.core.models.remote_endpoint import Endpoint, endpoint_of
from doppio.core.models.text_folder import TextFolder

WRITE_FORMAT, ANSWER_FORMAT, EXPAND_FORMAT = "doppio-write/1", "doppio-answer/1", "doppio-expand/1"
QUESTION, PASSAGE, TEXTS_AT_ONCE = "question", "passage", 64
Weighed = tuple[tuple[str, float], ...]
WORDINGS_KEPT, LONGEST_WORDING, MOST_SENTENCES = 4096, 2000, 100


class Writer(Protocol):
    """Says a question in other words."""

    def write(self, question: str, about: str, language: str, most: int) -> list[str]:
        """Other wordings, at most so many; `about` is what the workspace is about."""


class RemoteWriter:
    """A writer that an endpoint runs; what it said of the last questions is kept."""

    def __init__(self, folder: TextFolder) -> None:
        self.name, self.title = folder.name, folder.title
        self._endpoint: Endpoint = endpoint_of(folder.path, folder.settings)
        self._kept = lru_cache(maxsize=WORDINGS_KEPT)(self._written)

    def write(self, question: str, about: str, language: str, most: int) -> list[str]:
        """Other wordings of a question.

        Raises
        ------
        RemoteError
            If the endpoint cannot be reached, or answers with something else.
        """
        return list(self._kept(question, about, language, most))

    def _written(self, question: str, about: str, language: str, most: int) -> tuple[str, ...]:
        asked = {"format": WRITE_FORMAT, "question": question, "about": about, "language": language, "most": most}
        found = self._endpoint.ask("POST", "/write", asked).get("wordings")
        if not isinstance(found, list) or not all(isinstance(text, str) for text in found):
            raise RemoteError(f"{self._endpoint.url}/write: `wordings` is missing or not a list of texts")
        told = [" ".join(text.split())[:LONGEST_WORDING] for text in found[:most]]
        return tuple(text for text in told if text)


class RemoteAnswerer:
    """An answerer that an endpoint runs."""

    def __init__(self, folder: TextFolder) -> None:
        self.name, self.title = folder.name, folder.title
        self._endpoint: Endpoint = endpoint_of(folder.path, folder.settings)

    def lines(
        self, question: str, passages: Sequence[Mapping[str, Any]]
    ) -> Iterator[tuple[str, tuple[int, ...], str]]:
        """What it says, as it comes: the text of a sentence, the numbers that it cites, and why it is silent.

        Raises
        ------
        RemoteError
            If the endpoint cannot be reached, answers with something else, or stops before it is done.
        """
        asked = {"format": ANSWER_FORMAT, "question": question, "passages": [dict(one) for one in passages]}
        known, where = {one["number"] for one in passages}, f"{self._endpoint.url}/answer"
        for count, line in enumerate(self._endpoint.lines("/answer", asked)):
            if line.get("done") is True:
                return
            if count >= MOST_SENTENCES:
                raise RemoteError(f"{where}: says more than {MOST_SENTENCES} sentences")
            text, cites, silent = line.get("text", ""), line.get("cites", []), line.get("silent", "")
            if not isinstance(text, str) or not isinstance(silent, str) or not (text.strip() or silent.strip()):
                raise RemoteError(f"{where}: a line has neither `text` nor `silent`")
            if not isinstance(cites, list) or not all(type(one) is int and one in known for one in cites):
                raise RemoteError(f"{where}: `cites` is {cites!r}; the passages have the numbers {sorted(known)}")
            yield text.strip(), tuple(cites), silent.strip()
        raise RemoteError(f"{where}: stopped before it was done")


class RemoteExpander:
    """An expander that an endpoint runs; what it said of the last questions is kept.

    digest : changes whenever the same text may get other words
    """

    def __init__(self, folder: TextFolder) -> None:
        self.name, self.title = folder.name, folder.title
        self.digest = fingerprint(folder.name, folder.version, folder.settings["url"])
        self._endpoint: Endpoint = endpoint_of(folder.path, folder.settings)
        self._batch = int(folder.settings.get("batch", TEXTS_AT_ONCE))
        self._kept = lru_cache(maxsize=WORDINGS_KEPT)(self._of_question)

    def question(self, text: str, most: int) -> Weighed:
        """Words for a question with their weights; errors as those of `passages`."""
        return self._kept(text, most)

    def _of_question(self, text: str, most: int) -> Weighed:
        return self._expanded(QUESTION, [text], most)[0]

    def passages(self, texts: Sequence[str], most: int) -> list[Weighed]:
        """Words for each passage with their weights, above 0 and at most 1.

        Raises
        ------
        RemoteError
            If the endpoint cannot be reached, or answers with something else.
        """
        found: list[Weighed] = []
        for first in range(0, len(texts), self._batch):
            found += self._expanded(PASSAGE, texts[first : first + self._batch], most)
        return found

    def _expanded(self, kind: str, texts: Sequence[str], most: int) -> list[Weighed]:
        asked = {"format": EXPAND_FORMAT, "as": kind, "texts": list(texts), "most": most}
        found, where = self._endpoint.ask("POST", "/expand", asked).get("terms"), f"{self._endpoint.url}/expand"
        if not isinstance(found, list) or len(found) != len(texts):
            raise RemoteError(f"{where}: `terms` is missing, or not a list for each of {len(texts)} texts")
        return [tuple(_word(where, one) for one in _listed(where, row)[:most]) for row in found]


def _listed(where: str, row: Any) -> list[Any]:
    if not isinstance(row, list):
        raise RemoteError(f"{where}: {str(row)[:60]!r} is no list of words with weights")
    return row


def _word(where: str, given: Any) -> tuple[str, float]:
    pair = isinstance(given, list) and len(given) == 2 and isinstance(given[0], str)
    if not pair or not isinstance(given[1], int | float) or not 0 < given[1] <= 1:
        raise RemoteError(f"{where}: {str(given)[:60]!r} is no word with a weight above 0, 1 at most")
    return given[0], float(given[1])
