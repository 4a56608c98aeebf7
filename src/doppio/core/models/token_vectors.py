"""The encoder's vectors of every token of every chunk, in one byte a number."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.kernels.rows import ranges, rows_of
from doppio.core.models.encoder import Encoder

KIND = "token-vectors"


def compress(vectors: NDArray[np.float32]) -> tuple[NDArray[np.int8], NDArray[np.float32]]:
    """Bring (t, d) float32 vectors to int8 with one scale a vector; the error is below scale / 2 a number."""
    scales = np.abs(vectors).max(axis=1, initial=1e-9) / 127
    return np.rint(vectors / scales[:, None]).astype(np.int8), scales.astype(np.float32)


@dataclass(frozen=True)
class TokenMatch:
    """One token of the question and the token of the passage that it likes best."""

    token: str
    weight: float
    cosine: float
    start: int
    end: int


@dataclass(frozen=True)
class Segment:
    """Token vectors of the chunks of a segment.

    spans : (n, 2) int64, first token and number of tokens of each chunk
    codes : (t, d) int8, mapped from disk
    scales : (t,) float32
    ids : (t,) int32, the tokens' numbers in the vocabulary
    frequency : (vocabulary,) int32, chunks that hold each token
    now : (n,) int64, the number of each chunk in the index, -1 where it is deleted; empty where it is its place
    """

    spans: NDArray[np.int64]
    codes: NDArray[np.int8]
    scales: NDArray[np.float32]
    ids: NDArray[np.int32]
    frequency: NDArray[np.int32]
    now: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))

    @classmethod
    def opened(cls, arrays: Mapping[str, NDArray[Any]], now: NDArray[np.int64]) -> "Segment":
        names = ("spans", "codes", "scales", "ids", "frequency")
        return cls(**{name: arrays[name] for name in names}, now=now)


class TokenVectors:
    """Token vectors of all chunks of an index, whatever segments they are in."""

    def __init__(self, segments: Sequence[Segment]) -> None:
        self._segments = list(segments)
        self.chunks = sum(
            int((segment.now >= 0).sum()) if segment.now.size else len(segment.spans) for segment in self._segments
        )
        self.frequency: NDArray[np.int64] = np.sum([_living(segment) for segment in self._segments], axis=0)

    def of(self, chunk: int) -> NDArray[np.float32]:
        """Unit vectors of a chunk's tokens: (t, d) float32."""
        return self.of_many([chunk])[0]

    def of_many(self, chunks: Sequence[int]) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """Unit vectors of the tokens of some chunks one after another, (t, d) float32, and where each begins.

        Returns
        -------
        vectors : (t, d) float32
        bounds : (n + 1,) int64
        """
        owner, spans = self._places(chunks)
        bounds = np.concatenate([[0], np.cumsum(spans[:, 1])])
        width = self._segments[0].codes.shape[1] if self._segments else 0
        found = np.empty((int(bounds[-1]), width), np.float32)
        for own, (begin, count), first in zip(owner.tolist(), spans.tolist(), bounds.tolist()[:-1], strict=True):
            held = self._segments[own]
            span = slice(begin, begin + count)
            np.multiply(held.codes[span], held.scales[span, None], out=found[first : first + count])
        return found, bounds

    def ids_of(self, chunk: int) -> NDArray[np.int64]:
        """Numbers of a chunk's tokens in the vocabulary: (t,) int64."""
        (owner,), ((begin, count),) = self._places([chunk])
        return self._segments[owner].ids[begin : begin + count].astype(np.int64)

    def _places(self, chunks: Sequence[int]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """The segment that each chunk is in, (n,), and its first token there and how many, (n, 2)."""
        wanted = np.array(chunks, np.int64)
        owner = np.full(len(wanted), -1, np.int64)
        spans = np.zeros((len(wanted), 2), np.int64)
        for number, segment in enumerate(self._segments):
            here, rows = rows_of(segment.now, len(segment.spans), wanted)
            owner[here], spans[here] = number, segment.spans[rows]
        if (owner < 0).any():
            raise IndexError(f"chunk {wanted[owner < 0][0]} is not between 0 and {self.chunks - 1}")
        return owner, spans

    def idf(self, ids: NDArray[np.int64]) -> NDArray[np.float32]:
        """Inverse document frequency ln(1 + (N - n + 0.5) / (n + 0.5)) of tokens, over the chunks."""
        return inverse_frequency(self.frequency[ids], self.chunks).astype(np.float32)

    def asked(
        self, encoder: Encoder, text: str
    ) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.int64]]:
        """Unit vectors of a question's tokens, (q, d), their weights (q,), which add up to 1, and their numbers.

        A token weighs its inverse document frequency: what few chunks hold says more about which of them is meant.
        """
        vectors, ids = encoder.question_tokens(text)
        weights = self.idf(ids)
        return vectors, weights / max(float(weights.sum()), 1e-9), ids

    def matches(
        self, encoder: Encoder, question: str, passage: str, vectors: NDArray[np.float32]
    ) -> list[TokenMatch]:
        """Which token of a passage each token of a question is matched with; `vectors` are the passage's, (t, d)."""
        asked, weights, ids = self.asked(encoder, question)
        if not len(asked) or not len(vectors):
            return []
        cosines = vectors @ asked.T
        units = encoder.token_offsets([passage])[0]
        return [
            TokenMatch(text, float(weight), float(cosines[place, column]), int(units.starts[place]),
                       int(units.ends[place]))
            for column, (text, weight, place) in enumerate(
                zip(encoder.token_texts(ids), weights, cosines.argmax(axis=0), strict=True))
        ]  # fmt: skip

    def joined(self) -> Segment:
        """Those of all chunks by their numbers, as one segment that knows no frequencies; of a single whole segment
        its own, mapped from disk."""
        if len(self._segments) == 1 and not self._segments[0].now.size:
            return self._segments[0]
        spans = np.zeros((self.chunks, 2), np.int64)
        first = 0
        for own in self._segments:
            now = own.now if own.now.size else np.arange(len(own.spans))
            spans[now[now >= 0]] = own.spans[now >= 0] + np.array([first, 0])
            first += len(own.codes)
        codes, scales = (
            np.concatenate([getattr(own, name) for own in self._segments]) for name in ("codes", "scales")
        )
        return Segment(spans, codes, scales, np.empty(0, np.int32), np.empty(0, np.int32))


def inverse_frequency(held: NDArray[np.integer[Any]], count: int) -> NDArray[np.float64]:
    """ln(1 + (N - n + 0.5) / (n + 0.5)) of tokens that `held` of `count` passages hold."""
    own = held.astype(np.float64)
    return np.log1p((count - own + 0.5) / (own + 0.5))


def frequencies(spans: NDArray[np.int64], ids: NDArray[np.int32], vocabulary: int) -> NDArray[np.int32]:
    """How many of the chunks hold each token: (vocabulary,) int32."""
    if not len(spans):
        return np.zeros(vocabulary, np.int32)
    owners = np.repeat(np.arange(len(spans)), spans[:, 1])
    held = ids[ranges(spans[:, 0], spans[:, 1])].astype(np.int64)
    pairs = np.unique(held * len(spans) + owners)
    return np.bincount(pairs // len(spans), minlength=vocabulary).astype(np.int32)


def _living(segment: Segment) -> NDArray[np.int64]:
    found = segment.frequency.astype(np.int64)
    if segment.now.size and (segment.now < 0).any():
        found -= frequencies(segment.spans[segment.now < 0], segment.ids, len(segment.frequency))
    return found
