"""An answer from elsewhere: a registered answerer is given the question and the pieces, and cites them by number."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from doppio.core.kinds import ANSWERER, Setting, Settings, registered
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.models.remote_text import RemoteAnswerer
from doppio.core.select.answer.kind import NOTHING_HANDED_ON, HandedOn
from doppio.core.trace import AnswerTrace, SaidTrace

SAID_NOTHING = "the answerer says nothing"


@dataclass(frozen=True)
class FromElsewhere:
    """Asks an endpoint; an empty context is not sent."""

    answerer: RemoteAnswerer

    def answer(self, question: str, pieces: Sequence[HandedOn]) -> AnswerTrace:
        *_, last = self.stream(question, pieces)
        return last

    def stream(self, question: str, pieces: Sequence[HandedOn]) -> Iterator[AnswerTrace]:
        if not pieces:
            yield AnswerTrace((), NOTHING_HANDED_ON)
            return
        passages = [{"number": one.number, "place": one.place, "text": one.text} for one in pieces]
        found: list[SaidTrace] = []
        why = ""
        for text, cites, silent in self.answerer.lines(question, passages):
            if text:
                found.append(_placed(text, cites, pieces))
                yield AnswerTrace(tuple(found))
            why = why or silent
        if not found:
            yield AnswerTrace((), why or SAID_NOTHING)


def _placed(text: str, cites: tuple[int, ...], pieces: Sequence[HandedOn]) -> SaidTrace:
    """A sentence with its place, where one of the pieces that it cites has it word for word."""
    for piece in pieces:
        at = piece.text.find(text) if piece.number in cites else -1
        if at >= 0:
            return SaidTrace(text, cites, piece.document, piece.start + at, piece.start + at + len(text))
    return SaidTrace(text, cites)


class Remote:
    """See the module."""

    name, title, order = "remote", "by a registered answerer", 2
    settings: tuple[Setting, ...] = (
        registered("answerer", "Answerer", ANSWERER, help="as `./doppio model add-remote` registered it"),
    )

    def open(self, settings: Settings, models: Models, encoder: Encoder) -> FromElsewhere:
        return FromElsewhere(models.answerer(settings["answerer"]))


KIND = Remote()
