"""Labelled questions: where in the documents their answers stand."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Span:
    """An answer: `[start, end)` of a document, with its grade; without offsets the document is the answer."""

    document: str
    start: int | None
    end: int | None
    grade: float = 1.0


@dataclass(frozen=True)
class Question:
    """A labelled question; one without spans has been marked as unanswerable."""

    id: str
    text: str
    spans: tuple[Span, ...] = ()
    tags: tuple[str, ...] = ()

    @property
    def answerable(self) -> bool:
        return bool(self.spans)
