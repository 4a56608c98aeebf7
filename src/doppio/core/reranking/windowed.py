"""Reading passages in windows: the best window of a passage is its score."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Settings
from doppio.core.models.joint import JointScorer, Passage, Scored, Window
from doppio.core.reranking.late_interaction import opened
from doppio.core.store.pieces import Opening
from doppio.core.text.units import Units
from doppio.core.text.windows import character_ranges, line_before, window_bounds

# Chooses among windows by what is kept of the chunks: a question, chunks, what stands before the text of each in
# tokens, and the windows of each. Returns a score for each window of each chunk; -1 for one that it cannot judge.
Chooser = Callable[[str, Sequence[int], Sequence[int], Sequence[NDArray[np.int64]]], Sequence[NDArray[np.float32]]]


@dataclass(frozen=True)
class Candidate:
    """A passage of a shortlist.

    indexed : its text as it is indexed, with the context line before it where there is one
    before : characters of that line, 0 where there is none
    tokens_before : its tokens
    title : of its document
    headings : of the sections around it, from the outermost in
    """

    chunk: int
    indexed: str
    before: int = 0
    tokens_before: int = 0
    title: str = ""
    headings: tuple[str, ...] = ()


@dataclass(frozen=True)
class Reading:
    """How passages are read.

    size : tokens of a window
    most : how many windows of a passage are read, those first that the chooser likes; None for all of them
    units : counts tokens
    chooser : where only some are read
    """

    size: int
    most: int | None
    units: Callable[[Sequence[str]], list[Units]]
    chooser: Chooser | None = None


def reading_of(rerank: Settings, opening: Opening) -> Reading | None:
    """How a recipe reads; None where it reads passages whole."""
    if rerank["window"] is None:
        return None
    most = rerank["windows"]
    chooser = None if most is None else opened(opening).choose
    return Reading(rerank["window"], most, opening.counter.token_offsets, chooser)


def read_whole(scorer: JointScorer, question: str, candidates: Sequence[Candidate]) -> Scored:
    """Score passages as they are indexed; windows are of their own texts, without the context line."""
    found = scorer.score(question, [Passage(one.indexed, one.chunk) for one in candidates])
    windows = (
        None if window is None else (max(window[0] - one.before, 0), max(window[1] - one.before, 0))
        for one, window in zip(candidates, found.windows, strict=True)
    )
    return Scored(found.scores, tuple(windows))


def read_in_windows(scorer: JointScorer, question: str, candidates: Sequence[Candidate], reading: Reading) -> Scored:
    """Score the windows of passages, each with title and headings before it; the best is the passage's score.

    Notes
    -----
    A window that nothing is kept of, because the encoder did not read so far, is always read.

    References
    ----------
    .. [1] Z. Dai, J. Callan, "Deeper Text Understanding for IR with Contextual Neural Language Modeling", SIGIR 2019,
       for taking the best of a document's windows as its score.
    """
    bodies = [one.indexed[one.before :] for one in candidates]
    units = reading.units(bodies)
    bounds = [window_bounds(body, own, reading.size) for body, own in zip(bodies, units, strict=True)]
    chosen = _chosen(question, candidates, bounds, reading)
    owner: list[int] = []
    spans: list[Window] = []
    texts: list[str] = []
    for row, one in enumerate(candidates):
        line = line_before(one.title, one.headings)
        for start, end in character_ranges(bodies[row], units[row], bounds[row][chosen[row]]):
            owner.append(row)
            spans.append((start, end))
            texts.append(f"{line}\n{bodies[row][start:end]}" if line else bodies[row][start:end])
    raw = scorer.score(question, [Passage(text) for text in texts]).scores
    scores = np.full(len(candidates), -np.inf, np.float32)
    windows: list[Window | None] = [None] * len(candidates)
    for row, span, value in zip(owner, spans, raw.tolist(), strict=True):
        if value > scores[row]:
            scores[row] = value
            windows[row] = span if span != (0, len(bodies[row])) else None
    return Scored(scores, tuple(windows))


def _chosen(
    question: str, candidates: Sequence[Candidate], bounds: Sequence[NDArray[np.int64]], reading: Reading
) -> list[NDArray[np.int64]]:
    """Rows of the windows that are read, of each passage."""
    every = [np.arange(len(own)) for own in bounds]
    if reading.most is None or reading.chooser is None or max(map(len, bounds), default=0) <= reading.most:
        return every
    found = reading.chooser(
        question, [one.chunk for one in candidates], [one.tokens_before for one in candidates], bounds
    )
    chosen = []
    for own in found:
        best = np.argsort(-own, kind="stable")[: reading.most]
        chosen.append(np.union1d(best, np.flatnonzero(own <= -1.0)))
    return chosen
