"""Scoring a question and a passage together."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from doppio.core.models.scorer_folder import Calibration


@dataclass(frozen=True)
class Passage:
    """A text to score; `chunk` is its id where it is a chunk of the corpus, and None for any other text."""

    text: str
    chunk: int | None = None


Window = tuple[int, int]


@dataclass(frozen=True)
class Share:
    """What one thing that is known adds to a score: (n,) float32.

    title : for people
    weight : that it has
    """

    name: str
    title: str
    weight: float
    added: NDArray[np.float32]


@dataclass(frozen=True)
class Scored:
    """What a scorer says of some passages.

    scores : (n,) float32, raw; larger is better
    windows : n ranges of characters, each the part of a passage that was read; None where all of it was
    shares : what the scores are the sum of, where that can be told
    """

    scores: NDArray[np.float32]
    windows: tuple[Window | None, ...]
    shares: tuple[Share, ...] = ()


class JointScorer(Protocol):
    """Scores how well each passage answers a question.

    measure : names the raw score and its range for people; larger is always better
    digest : changes whenever the same pair may get another score
    calibration : how scores become probabilities, or None where nobody has measured that
    blend : share of the first stage's standardised score that measures best with it

    Where it has a `whole` that is true, it reads what is kept of a chunk, and so never a window of it; where it has
    an `answerable`, that says how likely a question is answered at all; where it has a `judge`, that takes a whole
    shortlist with what it came with, and `score` is not asked.
    """

    @property
    def name(self) -> str: ...
    @property
    def digest(self) -> str: ...
    @property
    def measure(self) -> str: ...
    @property
    def calibration(self) -> Calibration | None: ...
    @property
    def blend(self) -> float: ...

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        """Raw scores of the passages, in the order given."""
