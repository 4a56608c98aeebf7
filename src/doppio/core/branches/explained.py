"""Why a branch scores a chunk as it does, term by term."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class TermShare:
    """What one term of a question adds to the score of a chunk.

    in_question : its weight
    in_chunk : how often the chunk holds it; a part of 1 where it does not but was given it
    added_to_question, added_to_chunk : whether it is not said there and was added
    """

    term: str
    in_question: float
    in_chunk: float
    chunks_with_term: int
    idf: float
    share: float
    added_to_question: bool = False
    added_to_chunk: bool = False


@dataclass(frozen=True)
class AddedTerm:
    """A term that was added to a chunk when it was indexed, and what part of an occurrence it counts for."""

    term: str
    weight: float


@dataclass(frozen=True)
class Explained:
    """Why a branch scores a chunk as it does.

    terms : what each term of the question adds
    length : what the chunk's length adds
    near : what it adds that terms stand near each other
    lent : what pictures lend it that look like one that it carries
    found : ranges of the chunk's text that hold one of the terms
    """

    terms: Sequence[TermShare]
    length: float
    found: Sequence[tuple[int, int]]
    near: float = 0.0
    lent: float = 0.0
