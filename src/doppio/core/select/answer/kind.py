"""What an answerer is: from the pieces that are handed on it makes sentences, each with those that it rests on."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from doppio.core.kinds import Family, Kind, Settings
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.trace import AnswerTrace

NONE = "none"
NOTHING_HANDED_ON = "nothing was handed on"


@dataclass(frozen=True)
class HandedOn:
    """A piece of the context, in the order of writing.

    number : from 1
    document : its position in the corpus
    start : where it begins there, in characters
    place : title and headings, for people
    rank : how many pieces were ranked above it
    """

    number: int
    document: int
    start: int
    text: str
    place: str
    rank: int


class Answerer(Protocol):
    """An answerer that is opened."""

    def answer(self, question: str, pieces: Sequence[HandedOn]) -> AnswerTrace:
        """What is answered; an answer without sentences says why it is silent."""

    def stream(self, question: str, pieces: Sequence[HandedOn]) -> Iterator[AnswerTrace]:
        """The same as it grows; the last one is whole."""


class AnswerKind(Kind, Protocol):
    """A kind; its module holds one as `KIND`."""

    def open(self, settings: Settings, models: Models, encoder: Encoder) -> Answerer | None:
        """Open it; None where nothing answers. `encoder` is the one that counts the recipe's tokens."""


ANSWERS: Family[AnswerKind] = Family("answers", "doppio.core.select.answer", AnswerKind, key="kind")
