"""Late interaction: question and passage are encoded apart, and compared token by token."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.making import TOKENS, VECTORS_MAKER, tokens_piece
from doppio.core.errors import ModelFolderError
from doppio.core.kernels.mapping import read_here_and_there
from doppio.core.kinds import Setting, Settings
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import JointScorer, Passage, Scored
from doppio.core.models.registry import Models
from doppio.core.models.token_vectors import Segment, TokenMatch, TokenVectors
from doppio.core.reranking.kind import Offered
from doppio.core.store.pieces import Maker, Needs, Opening, Planning

NAME, TITLE = "late-interaction", "late interaction of token vectors"


class LateInteraction:
    """Every token of the question takes its best match among the passage's tokens.

    Notes
    -----
    The score is the mean of the best cosines, weighted by the inverse document frequency of the question's
    tokens, so it lies between -1 and 1. Question and passage are still encoded apart from each other.
    Token vectors of chunks are read from the index; other passages are encoded on the spot.

    References
    ----------
    .. [1] O. Khattab, M. Zaharia, "Efficient and Effective Passage Search via Contextualized Late
       Interaction over BERT", SIGIR 2020. There the matches are added without weights and the encoder is
       trained for it; here it is not.
    """

    name = NAME
    measure = "weighted mean of best token cosines, -1 to 1"

    calibration = None
    blend = 0.0
    whole = True

    def __init__(self, encoder: Encoder, stored: TokenVectors) -> None:
        self.encoder = encoder
        self._stored = stored
        self.digest = encoder.digest

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        return Scored(self._scores(question, passages), (None,) * len(passages))

    def _scores(self, question: str, passages: Sequence[Passage]) -> NDArray[np.float32]:
        asked, weights, _ = self._stored.asked(self.encoder, question)
        if not len(asked):
            return np.zeros(len(passages), np.float32)
        vectors, bounds = self._passages(passages)
        scores = np.full(len(passages), -1.0, np.float32)
        filled = np.flatnonzero(np.diff(bounds))
        if len(filled):
            cosines = vectors @ asked.T
            scores[filled] = np.maximum.reduceat(cosines, bounds[:-1][filled], axis=0) @ weights
        return scores

    def tokens(
        self, question: str, chunks: Sequence[int]
    ) -> tuple[NDArray[np.int64], NDArray[np.float64], list[NDArray[np.int64]]]:
        """Tokens of the question, their weights, which add up to 1, and the tokens of each chunk."""
        _, weights, ids = self._stored.asked(self.encoder, question)
        return ids, weights.astype(np.float64), [self._stored.ids_of(chunk) for chunk in chunks]

    def cosines(self, question: str, chunks: Sequence[int]) -> tuple[list[NDArray[np.float32]], NDArray[np.float32]]:
        """Of the tokens of each chunk with those of the question, (t, q) each; and the weights of the latter."""
        asked, weights, _ = self._stored.asked(self.encoder, question)
        vectors, bounds = self._stored.of_many(chunks)
        # One product for all: many small ones wait for each other's threads.
        return np.split(vectors @ asked.T, bounds[1:-1]), weights

    def choose(
        self,
        question: str,
        chunks: Sequence[int],
        before: Sequence[int],
        bounds: Sequence[NDArray[np.int64]],
    ) -> list[NDArray[np.float32]]:
        """Score windows of chunks; see `windowed.Chooser`."""
        cosines, weights = self.cosines(question, chunks)
        return [
            best_in(own[skipped:], weights, windows)
            for own, skipped, windows in zip(cosines, before, bounds, strict=True)
        ]

    def matches(self, question: str, passage: Passage) -> list[TokenMatch]:
        """Which token of the passage each token of the question was matched with, and how well."""
        vectors, _ = self._passages([passage])
        return self._stored.matches(self.encoder, question, passage.text, vectors)

    def _passages(self, passages: Sequence[Passage]) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """Vectors of the tokens of passages one after another, and where each begins."""
        kept = [passage.chunk for passage in passages if passage.chunk is not None]
        if len(kept) == len(passages):
            return self._stored.of_many(kept)
        found: dict[int, NDArray[np.float32]] = {}
        loose = [row for row, passage in enumerate(passages) if passage.chunk is None]
        for batch in self.encoder.encode([passages[row].text for row in loose], tokens=True):
            assert batch.tokens is not None
            for place, matrix in zip(batch.place, batch.tokens, strict=True):
                found[loose[place]] = matrix
        matrices = [
            found[row] if passage.chunk is None else self._stored.of(passage.chunk)
            for row, passage in enumerate(passages)
        ]
        return np.concatenate(matrices), np.concatenate([[0], np.cumsum([len(matrix) for matrix in matrices])])


def best_in(
    cosines: NDArray[np.float32], weights: NDArray[np.float32], bounds: NDArray[np.int64]
) -> NDArray[np.float32]:
    """Late interaction of windows of a passage: (n,) float32.

    Parameters
    ----------
    cosines : (tokens, q) float32
        Of the passage's tokens with those of the question.
    weights : (q,) float32
    bounds : (n, 2) int64
        First token of each window and the one after its last; one beyond all that has cosines comes out as -1.
    """
    found = np.full(len(bounds), -1.0, np.float32)
    for row, (first, after) in enumerate(bounds.tolist()):
        if first < min(after, len(cosines)):
            found[row] = cosines[first:after].max(axis=0) @ weights
    return found


def token_needs(planning: Planning) -> Needs:
    """The vectors of all tokens."""
    return Needs({TOKENS: tokens_piece(planning.counter)})


def opened(opening: Opening) -> LateInteraction:
    """Late interaction over the vectors that are kept."""
    stored = [Segment.opened(artifact.arrays, now) for artifact, now in opening.over(TOKENS)]
    read_here_and_there(*(segment.codes for segment in stored))
    return LateInteraction(opening.counter, TokenVectors(stored))


class Late:
    """One scorer, which reads the vectors of all tokens that are kept beside the indexes."""

    name, title, order = NAME, "late interaction", 2
    settings: tuple[Setting, ...] = ()
    makers: Sequence[Maker] = (VECTORS_MAKER,)

    def offers(self, models: Models) -> list[Offered]:
        return [Offered(NAME, TITLE, by_token=True, alone=False)]

    def needs(self, name: str, planning: Planning) -> Needs:
        return token_needs(planning)

    def open(self, name: str, settings: Settings, opening: Opening) -> JointScorer:
        return opened(opening)

    def alone(self, name: str, models: Models) -> JointScorer:
        raise ModelFolderError(f"{name}: reads what is kept of a corpus, so it scores no other passages")


KIND = Late()
