"""The sentences of the context that answer: word for word, each with its place, or nothing.

A sentence fits a question as far as each token of the question finds a token like it there (late interaction), by the
encoder's vectors; each place of its piece below the best holds it back a little. Questions after one fact want the
fit alone; where a question asks how something is done its words stand anywhere, and the best piece is worth more.

References
----------
.. [1] O. Khattab, M. Zaharia, SIGIR 2020, for the comparison: late interaction.
"""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings, number, optional, whole
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import compress
from doppio.core.select.answer.kind import NOTHING_HANDED_ON, HandedOn
from doppio.core.text.sentences import sentence_starts
from doppio.core.trace import AnswerTrace, SaidTrace

_LINES = re.compile(r"\n+")
# How a line ends that says something, and what a row of a table has; a short line without either is a heading.
_SAYS, LONGEST_HEADING = re.compile(r"[.!?…。！？][\"')\]”’»]*$|[:;|=]"), 10
SENTENCES_KEPT = 4096
Compressed = tuple[NDArray[np.int8], NDArray[np.float32]]


def sentences_in(text: str) -> list[tuple[int, int]]:
    """Ranges of the sentences of a text, without the white space around them; a line ends one."""
    cuts = sorted({0, *sentence_starts(text).tolist(), *(end.end() for end in _LINES.finditer(text)), len(text)})
    found = []
    for start, end in pairwise(cuts):
        own = text[start:end]
        low, high = start + len(own) - len(own.lstrip()), start + len(own.rstrip())
        if high > low:
            found.append((low, high))
    return found


def is_heading(text: str) -> bool:
    """Whether a line reads as a heading: it names what follows and says nothing itself."""
    return len(text.split()) <= LONGEST_HEADING and not _SAYS.search(text)


@dataclass(frozen=True)
class Extracting:
    """Takes the sentences that fit best.

    kept : vectors of the tokens of sentences that were looked at lately
    """

    settings: Settings
    encoder: Encoder
    kept: dict[str, Compressed] = field(default_factory=dict)

    def stream(self, question: str, pieces: Sequence[HandedOn]) -> Iterator[AnswerTrace]:
        yield self.answer(question, pieces)

    def answer(self, question: str, pieces: Sequence[HandedOn]) -> AnswerTrace:
        places = self._places(pieces)
        if not places:
            return AnswerTrace((), NOTHING_HANDED_ON)
        texts = [pieces[piece].text[low:high] for piece, low, high in places]
        held_back = self.settings["rank"] * np.array([pieces[piece].rank for piece, _, _ in places])
        fits = self.fits(question, texts) - held_back
        best, least = float(fits.max()), self.settings["least"]
        if least is not None and best < least:
            return AnswerTrace((), f"no sentence fits well enough: the best one has {best:.2f}, below {least:g}")
        order = np.argsort(-fits, kind="stable")
        taken, said = list[int](), set[str]()
        for place in order.tolist():
            enough = len(taken) == self.settings["sentences"]
            if enough or (taken and fits[place] < self.settings["share"] * best):
                break
            if texts[place] not in said:
                taken.append(place)
                said.add(texts[place])
        found = []
        # Pieces by the best sentence of each; within a piece as they stand.
        first = list(dict.fromkeys(places[place][0] for place in taken))
        for place in sorted(taken, key=lambda place: (first.index(places[place][0]), places[place][1])):
            piece, low, high = places[place]
            own = pieces[piece]
            found.append(
                SaidTrace(texts[place], (own.number,), own.document, own.start + low, own.start + high,
                          round(float(fits[place]), 6))
            )  # fmt: skip
        return AnswerTrace(tuple(found))

    def fits(self, question: str, texts: Sequence[str]) -> NDArray[np.float64]:
        """How well each text fits the question: (n,), -1 to 1."""
        asked, _ = self.encoder.question_tokens(question)
        if not len(asked):
            return np.zeros(len(texts))
        tokens = self._tokens(texts)
        sizes = [len(scales) for _, scales in tokens]
        if not sum(sizes):
            return np.zeros(len(texts))
        codes = np.concatenate([codes for codes, _ in tokens])
        products = asked @ codes.T.astype(np.float32) * np.concatenate([scales for _, scales in tokens])
        begins = np.cumsum([0, *sizes])[:-1]
        full = np.flatnonzero(sizes)
        found = np.zeros(len(texts))
        found[full] = np.maximum.reduceat(products, begins[full], axis=1).mean(axis=0)
        return found

    def _tokens(self, texts: Sequence[str]) -> list[Compressed]:
        """Unit vectors of the tokens of each text; those of texts that come again are at hand."""
        found = {text: self.kept.get(text) for text in texts}
        lacking = [text for text, own in found.items() if own is None]
        for batch in self.encoder.encode(lacking, tokens=True) if lacking else ():
            assert batch.tokens is not None
            for place, own in zip(batch.place.tolist(), batch.tokens, strict=True):
                found[lacking[place]] = compress(own) if len(own) else (own.astype(np.int8), own[:, 0])
        if len(self.kept) + len(lacking) > SENTENCES_KEPT:
            self.kept.clear()
        self.kept.update((text, found[text]) for text in lacking)  # type: ignore[misc]
        return [found[text] for text in texts]  # type: ignore[misc]

    def _places(self, pieces: Sequence[HandedOn]) -> list[tuple[int, int, int]]:
        """Pieces and ranges of their sentences; headings are left out where there is anything else."""
        found = [(at, *own) for at, piece in enumerate(pieces) for own in sentences_in(piece.text)]
        saying = [(at, low, high) for at, low, high in found if not is_heading(pieces[at].text[low:high])]
        return saying or found


class Sentences:
    """See the module."""

    name, title, order = "sentences", "by sentences of the context, word for word", 1
    settings: tuple[Setting, ...] = (
        whole("sentences", "At most, in sentences", 1, 20, 3),
        number("share", "Of the best one's fit, at least", 0, 1, 0.9, help="a sentence below it is not said"),
        number("rank", "Held back, a place of its piece", 0, 1, 0.02, help="what each place below the best costs"),
        optional(number("least", "Silent below, fit", 0, 1, help="of the best sentence; empty: never silent")),
    )  # fmt: skip

    def open(self, settings: Settings, models: Models, encoder: Encoder) -> Extracting:
        return Extracting(settings, encoder)


KIND = Sentences()
