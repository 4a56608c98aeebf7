"""The encoder's vectors of every token of every chunk, in one byte a number."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact

KIND = "token-vectors"


def compress(vectors: NDArray[np.float32]) -> tuple[NDArray[np.int8], NDArray[np.float32]]:
    """Bring (t, d) float32 vectors to int8 with one scale a vector; the error is below scale / 2 a number."""
    scales = np.abs(vectors).max(axis=1, initial=1e-9) / 127
    return np.rint(vectors / scales[:, None]).astype(np.int8), scales.astype(np.float32)


@dataclass(frozen=True)
class TokenVectors:
    """Chunk c has the tokens `begins[c]:begins[c + 1]`.

    begins : (chunks + 1,) int64
    codes : (tokens, d) int8, mapped from disk
    scales : (tokens,) float32
    frequency : (vocabulary,) int32, chunks that hold each token
    """

    begins: NDArray[np.int64]
    codes: NDArray[np.int8]
    scales: NDArray[np.float32]
    frequency: NDArray[np.int32]

    def of(self, chunk: int) -> NDArray[np.float32]:
        """Unit vectors of a chunk's tokens: (t, d) float32."""
        span = slice(int(self.begins[chunk]), int(self.begins[chunk + 1]))
        return self.codes[span].astype(np.float32) * self.scales[span, None]

    def idf(self, ids: NDArray[np.int64]) -> NDArray[np.float32]:
        """Inverse document frequency ln(1 + (N - n + 0.5) / (n + 0.5)) of tokens, over the chunks."""
        chunks = len(self.begins) - 1
        held = self.frequency[ids].astype(np.float64)
        return np.log1p((chunks - held + 0.5) / (held + 0.5)).astype(np.float32)


def open_token_vectors(artifact: Artifact) -> TokenVectors:
    arrays = artifact.arrays
    return TokenVectors(arrays["begins"], arrays["codes"], arrays["scales"], arrays["frequency"])
