"""Texts to vectors: a tokenizer and an ONNX graph, run in batches of like length."""

import os
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import onnxruntime
from numpy.typing import NDArray
from tokenizers import Tokenizer

from doppio.core.chunking.units import Units
from doppio.core.errors import ModelFolderError
from doppio.core.models.folder import GRAPH, TOKENIZER, open_folder

BATCH = 32


@dataclass(frozen=True)
class Encoded:
    """Encodings of a batch of texts.

    place : (m,) int64, positions of the texts in what was given
    vectors : (m, d) float32, unit vectors of whole texts
    tokens : list of m (t_i, d) float32 arrays, unit vectors of the tokens, special ones left out; or None
    ids : list of m (t_i,) int64 arrays, the tokens' numbers in the vocabulary; or None
    """

    place: NDArray[np.int64]
    vectors: NDArray[np.float32]
    tokens: list[NDArray[np.float32]] | None
    ids: list[NDArray[np.int64]] | None


class Encoder:
    """A sentence encoder from a model folder; safe to use from several threads."""

    def __init__(self, path: Path, *, threads: int | None = None) -> None:
        self.folder = open_folder(path)
        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = threads or os.cpu_count() or 1
        options.log_severity_level = 3
        try:
            self._session = onnxruntime.InferenceSession(
                str(path / GRAPH), options, providers=["CPUExecutionProvider"]
            )
            self._whole = Tokenizer.from_file(str(path / TOKENIZER))
            self._cut = Tokenizer.from_file(str(path / TOKENIZER))
        except Exception as error:
            raise ModelFolderError(f"{path}: cannot be loaded ({error})") from error
        self._whole.no_truncation()
        self._whole.no_padding()
        self._cut.no_padding()
        self._cut.enable_truncation(self.folder.max_tokens)

    @property
    def dimension(self) -> int:
        return self.folder.dimension

    @property
    def max_tokens(self) -> int:
        """Tokens of a text that are read, the two special ones not counted."""
        return self.folder.max_tokens - 2

    @property
    def vocabulary_size(self) -> int:
        size: int = self._whole.get_vocab_size()
        return size

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        """Ranges of the tokens of whole texts, nothing cut off, special tokens left out."""
        found = []
        for encoding in self._whole.encode_batch(list(texts), add_special_tokens=False):
            bounds = np.asarray(encoding.offsets, np.int64).reshape(-1, 2)
            found.append(Units(np.ascontiguousarray(bounds[:, 0]), np.ascontiguousarray(bounds[:, 1])))
        return found

    def token_texts(self, ids: NDArray[np.int64]) -> list[str]:
        """What the tokens look like, for people."""
        return [str(self._whole.id_to_token(int(number))) for number in ids]

    def vectors(self, texts: Sequence[str]) -> NDArray[np.float32]:
        """Unit vectors of texts: (n, d) float32, in the order given."""
        result = np.zeros((len(texts), self.dimension), np.float32)
        for batch in self.encode(texts):
            result[batch.place] = batch.vectors
        return result

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        """Encode texts in batches of like length, so that little is padding; with `tokens`, each token too.

        Notes
        -----
        Batches come in the order of length, not of the texts; `place` says which texts they are.
        """
        encodings = self._cut.encode_batch(list(texts))
        lengths = np.array([len(encoding.ids) for encoding in encodings], np.int64)
        order = np.argsort(lengths, kind="stable")
        for first in range(0, len(order), BATCH):
            place = order[first : first + BATCH]
            longest = int(lengths[place].max())
            ids = np.zeros((len(place), longest), np.int64)
            mask = np.zeros((len(place), longest), np.int64)
            for row, number in enumerate(place):
                ids[row, : lengths[number]] = encodings[number].ids
                mask[row, : lengths[number]] = 1
            wanted = ["vector", "tokens"] if tokens else ["vector"]
            outputs = self._session.run(wanted, {"ids": ids, "mask": mask})
            if not tokens:
                yield Encoded(place, outputs[0], None, None)
                continue
            real = [slice(1, int(lengths[number]) - 1) for number in place]
            unit = outputs[1] / np.maximum(np.linalg.norm(outputs[1], axis=2, keepdims=True), 1e-9)
            yield Encoded(
                place,
                outputs[0],
                [unit[row, span] for row, span in enumerate(real)],
                [ids[row, span] for row, span in enumerate(real)],
            )
