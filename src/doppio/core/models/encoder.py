"""Texts to vectors: a tokenizer and an ONNX graph, run in batches of like length."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from tokenizers import Tokenizer

from doppio.core.errors import DoppioError, ModelFolderError
from doppio.core.models.batching import like_length
from doppio.core.models.counting import TokenCounts
from doppio.core.models.folder import FIRST, GRAPH, GRAPH_VECTOR, MAX, TOKENIZER, check_files, open_folder
from doppio.core.models.session import Spreading
from doppio.core.models.sight import PICTURE_GRAPH, GraphSight, Sight
from doppio.core.models.tokenizer import offsets_by
from doppio.core.text.units import Units

# Of these the vectors of their tokens are kept.
QUESTIONS_KEPT = 32
_IDS, _MASK, _TYPES = ("ids", "input_ids"), ("mask", "attention_mask"), ("types", "token_type_ids")


@dataclass(frozen=True)
class Encoded:
    """Encodings of a batch of texts.

    place : (m,) int64, positions of the texts in what was given
    vectors : (m, d) float32, vectors of whole texts
    tokens : list of m (t_i, d) float32 arrays, unit vectors of the tokens, special ones left out; or None
    ids : list of m (t_i,) int64 arrays, the tokens' numbers in the vocabulary; or None
    """

    place: NDArray[np.int64]
    vectors: NDArray[np.float32]
    tokens: list[NDArray[np.float32]] | None
    ids: list[NDArray[np.int64]] | None


@dataclass(frozen=True)
class AskedTokens:
    """The tokens of a question.

    vectors : (t, d) float32, of unit length
    texts : what they look like, for people
    ids : (t,) int64, their numbers in the vocabulary; None where nobody here knows it
    """

    vectors: NDArray[np.float32]
    texts: Sequence[str]
    ids: NDArray[np.int64] | None = None


class TextEncoder(Protocol):
    """Turns texts into vectors.

    digest : changes whenever the same text may get another vector
    unit : whether its vectors have unit length
    max_tokens : tokens of a text that are read, special ones not counted
    warning : what speaks against using it for questions, or nothing
    gives_tokens : whether it gives a vector for every token
    sight : its half that reads pictures; None for one that reads texts alone
    """

    @property
    def name(self) -> str: ...
    @property
    def title(self) -> str: ...
    @property
    def digest(self) -> str: ...
    @property
    def dimension(self) -> int: ...
    @property
    def unit(self) -> bool: ...
    @property
    def max_tokens(self) -> int: ...
    @property
    def warning(self) -> str: ...
    @property
    def gives_tokens(self) -> bool: ...
    @property
    def sight(self) -> Sight | None: ...

    def questions(self, texts: Sequence[str]) -> NDArray[np.float32]:
        """Vectors of questions: (n, d) float32, in the order given."""

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        """Encode passages in batches; with `tokens`, each token too, where the encoder can."""

    def asked_tokens(self, text: str) -> AskedTokens:
        """The tokens of a question, where the encoder gives them."""


def check_finite(vectors: NDArray[np.float32], encoder: TextEncoder, texts: Sequence[str]) -> NDArray[np.float32]:
    """Vectors of texts, all of whose numbers are finite: (n, d) float32.

    Raises
    ------
    DoppioError
        If one has a number that is not, beside which no search finds anything; names the encoder and the text.
    """
    wrong = np.flatnonzero(~np.isfinite(vectors).all(axis=1))
    if len(wrong):
        text = " ".join(texts[wrong[0]].split())
        shown = text if len(text) <= 80 else text[:77] + "..."
        raise DoppioError(f"{encoder.name}: gives a vector with numbers that are not finite for the text {shown!r}")
    return vectors


class Encoder:
    """A sentence encoder from a model folder; safe to use from several threads.

    token_width : numbers of a vector of a token
    """

    def __init__(self, path: Path, *, threads: int | None = None) -> None:
        self.folder = open_folder(path)
        check_files(path)
        try:
            self._graph = Spreading(path / GRAPH, threads)
            self._whole = Tokenizer.from_file(str(path / TOKENIZER))
            self._cut = Tokenizer.from_file(str(path / TOKENIZER))
        except Exception as error:
            raise ModelFolderError(f"{path}: cannot be loaded ({error})") from error
        self._whole.no_truncation()
        self._whole.no_padding()
        self._counts = TokenCounts(self._whole)
        self._cut.no_padding()
        self._cut.enable_truncation(self.folder.max_tokens)
        seen = self.folder.pictures
        self.sight = GraphSight(path / PICTURE_GRAPH, seen, self.dimension, threads) if seen else None
        self._question_tokens = lru_cache(maxsize=QUESTIONS_KEPT)(self._read_question)
        inputs = [given.name for given in self._graph.inputs()]
        self._ids, self._mask, self._types = (
            next((name for name in inputs if name in names), None) for names in (_IDS, _MASK, _TYPES)
        )
        unknown = set(inputs) - {self._ids, self._mask, self._types}
        if self._ids is None or self._mask is None or unknown:
            raise ModelFolderError(
                f"{path / GRAPH}: inputs are {', '.join(inputs)}; allowed are {' or '.join(_IDS)}, "
                f"{' or '.join(_MASK)} and, where it is needed, {' or '.join(_TYPES)}"
            )
        ranks = {given.name: len(given.shape) for given in self._graph.outputs()}
        self._vector = next((name for name, rank in ranks.items() if rank == 2), None)
        self._tokens = next((name for name, rank in ranks.items() if rank == 3), None)
        widths = {given.name: given.shape[-1] for given in self._graph.outputs()}
        width = widths.get(self._tokens) if self._tokens else None
        self.token_width = width if isinstance(width, int) else self.folder.dimension
        needed = self._vector if self.folder.pooling == GRAPH_VECTOR else self._tokens
        if needed is None:
            what = "one vector a text" if self.folder.pooling == GRAPH_VECTOR else "one vector a token"
            raise ModelFolderError(
                f"{path / GRAPH}: no output gives {what}, as pooling {self.folder.pooling!r} needs"
            )

    @property
    def name(self) -> str:
        return self.folder.name

    @property
    def title(self) -> str:
        return self.folder.title

    @property
    def digest(self) -> str:
        return self.folder.digest

    @property
    def unit(self) -> bool:
        return self.folder.unit

    @property
    def warning(self) -> str:
        return self.folder.warning

    @property
    def dimension(self) -> int:
        return self.folder.dimension

    @property
    def gives_tokens(self) -> bool:
        """Whether it gives a vector for every token."""
        return self._tokens is not None

    @property
    def max_tokens(self) -> int:
        """Tokens of a passage that are read, the two special ones and those of the prefix not counted."""
        return self.folder.max_tokens - 2 - self._prefix_tokens(self.folder.passage)

    def _prefix_tokens(self, prefix: str) -> int:
        return len(self._whole.encode(prefix, add_special_tokens=False).ids) if prefix else 0

    @property
    def vocabulary_size(self) -> int:
        size: int = self._whole.get_vocab_size()
        return size

    def token_offsets(self, texts: Sequence[str]) -> list[Units]:
        """Ranges of the tokens of whole texts, nothing cut off, special tokens left out."""
        return offsets_by(self._whole, texts)

    def token_counts(self, texts: Sequence[str]) -> NDArray[np.int64]:
        """How many these are, of each text: (n,) int64."""
        return self._counts.of(texts)

    def token_ids(self, texts: Sequence[str]) -> list[NDArray[np.int64]]:
        """Numbers of the tokens of whole texts, special tokens left out."""
        encoded = self._whole.encode_batch(list(texts), add_special_tokens=False)
        return [np.array(encoding.ids, np.int64) for encoding in encoded]

    def whole_words(self) -> list[str]:
        """The tokens that are words of letters alone, by their numbers, which mostly is how common they are."""
        known = sorted(self._whole.get_vocab().items(), key=lambda entry: entry[1])
        return [text for text, _ in known if text.isalpha() and len(text) > 2]

    def token_texts(self, ids: NDArray[np.int64]) -> list[str]:
        """What the tokens look like, for people."""
        return [str(self._whole.id_to_token(int(number))) for number in ids]

    def questions(self, texts: Sequence[str]) -> NDArray[np.float32]:
        """Vectors of questions: (n, d) float32, in the order given."""
        return self._vectors(texts, self.folder.question)

    def vectors(self, texts: Sequence[str]) -> NDArray[np.float32]:
        """Vectors of passages: (n, d) float32, in the order given."""
        return self._vectors(texts, self.folder.passage)

    def _vectors(self, texts: Sequence[str], prefix: str) -> NDArray[np.float32]:
        result = np.zeros((len(texts), self.dimension), np.float32)
        for batch in self._encode(texts, prefix, False):
            result[batch.place] = batch.vectors
        return result

    def encode(self, texts: Sequence[str], *, tokens: bool = False) -> Iterator[Encoded]:
        """Encode passages in batches of like length, so that little is padding; with `tokens`, each token too.

        Notes
        -----
        Batches come in the order of length, not of the texts; `place` says which texts they are. Vectors of tokens
        have unit length; those of the prefix are left out.
        """
        return self._encode(texts, self.folder.passage, tokens)

    def question_tokens(self, text: str) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        """Unit vectors of the tokens of a question, (t, d), and their numbers; the prefix has its part and is left
        out. Those of the last questions are kept, since several scorers and the choice of windows ask for them."""
        return self._question_tokens(text)

    def asked_tokens(self, text: str) -> AskedTokens:
        vectors, ids = self.question_tokens(text)
        return AskedTokens(vectors, self.token_texts(ids), ids)

    def _read_question(self, text: str) -> tuple[NDArray[np.float32], NDArray[np.int64]]:
        encoded = next(self._encode([text], self.folder.question, True))
        assert encoded.tokens is not None and encoded.ids is not None
        return encoded.tokens[0], encoded.ids[0]

    def _encode(self, texts: Sequence[str], prefix: str, tokens: bool) -> Iterator[Encoded]:
        encodings = self._cut.encode_batch([prefix + text for text in texts] if prefix else list(texts))
        skipped = 1 + self._prefix_tokens(prefix) if tokens else 1
        lengths = np.array([len(encoding.ids) for encoding in encodings], np.int64)
        for place in like_length(lengths):
            longest = int(lengths[place].max())
            ids = np.zeros((len(place), longest), np.int64)
            mask = np.zeros((len(place), longest), np.int64)
            for row, number in enumerate(place):
                ids[row, : lengths[number]] = encodings[number].ids
                mask[row, : lengths[number]] = 1
            vectors, each = self._run(ids, mask, tokens)
            if not tokens or each is None:
                yield Encoded(place, vectors, None, None)
                continue
            real = [slice(skipped, max(int(lengths[number]) - 1, skipped)) for number in place]
            unit = each / np.maximum(np.linalg.norm(each, axis=2, keepdims=True), 1e-9)
            yield Encoded(
                place,
                vectors,
                [unit[row, span] for row, span in enumerate(real)],
                [ids[row, span] for row, span in enumerate(real)],
            )

    def _run(
        self, ids: NDArray[np.int64], mask: NDArray[np.int64], tokens: bool
    ) -> tuple[NDArray[np.float32], NDArray[np.float32] | None]:
        given = {self._ids: ids, self._mask: mask}
        if self._types:
            given[self._types] = np.zeros_like(ids)
        pooling = self.folder.pooling
        wanted = [self._vector] if pooling == GRAPH_VECTOR else []
        wanted += [self._tokens] if tokens or pooling != GRAPH_VECTOR else []
        found = dict(zip(wanted, self._graph.run(wanted, given, len(ids)), strict=True))
        each = found.get(self._tokens) if self._tokens else None
        if pooling == GRAPH_VECTOR:
            vectors = found[self._vector]
        else:
            assert each is not None
            vectors = _pooled(each, mask, pooling)
        if vectors.shape[1] < self.dimension:
            raise ModelFolderError(
                f"{self.folder.path}: dimension: {self.dimension} stated, the graph gives {vectors.shape[1]} numbers"
            )
        vectors = np.asarray(vectors[:, : self.dimension], np.float32)
        if self.unit:
            vectors = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
        return vectors, each


def _pooled(tokens: NDArray[np.float32], mask: NDArray[np.int64], pooling: str) -> NDArray[np.float32]:
    if pooling == FIRST:
        return tokens[:, 0]
    real = mask[:, :, None].astype(np.float32)
    if pooling == MAX:
        found: NDArray[np.float32] = np.where(real > 0, tokens, -np.inf).max(axis=1)
        return found
    summed: NDArray[np.float32] = (tokens * real).sum(axis=1) / np.maximum(real.sum(axis=1), 1)
    return summed
