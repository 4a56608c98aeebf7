"""Why a branch scores a chunk as it does, term by term."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class TermShare:
    """What one term of a question adds to the score of a chunk."""

    term: str
    in_question: float
    in_chunk: int
    chunks_with_term: int
    idf: float
    share: float


@dataclass(frozen=True)
class Explained:
    """Why a branch scores a chunk as it does.

    terms : what each term of the question adds
    length : what the chunk's length adds
    found : ranges of the chunk's text that hold one of the terms
    """

    terms: Sequence[TermShare]
    length: float
    found: Sequence[tuple[int, int]]
