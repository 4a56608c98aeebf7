"""The words of a corpus with their vectors: which of them mean much the same as a text?"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.kernels.heap import offer
from doppio.core.kernels.products import products
from doppio.core.models.encoder import TextEncoder, check_finite
from doppio.core.progress import Progress
from doppio.core.text.analysis import Analysis

KIND = "vocabulary"
# Goes up when another one is made of the same words.
EDITION = 1
# A word: letters alone, since what a code means its vector does not know.
_WORD = re.compile(r"[^\W\d_]{3,}")
WORDS_AT_ONCE, ROWS_AT_ONCE = 1024, 512


@dataclass(frozen=True)
class Vocabulary:
    """Terms of a corpus that are words.

    term_bytes, term_begins : all terms one after another in UTF-8, uint8, and where each begins, (t + 1,) int64
    word_bytes, word_begins : the first word of the corpus that stood for each term, likewise
    vectors : (t, d) float32, of unit length: the encoder's of that word
    """

    term_bytes: NDArray[np.uint8]
    term_begins: NDArray[np.int64]
    word_bytes: NDArray[np.uint8]
    word_begins: NDArray[np.int64]
    vectors: NDArray[np.float32]

    @classmethod
    def opened(cls, arrays: Mapping[str, NDArray[Any]]) -> "Vocabulary":
        return cls(**{column.name: np.asarray(arrays[column.name]) for column in fields(cls)})

    @cached_property
    def terms(self) -> list[str]:
        return _texts(self.term_bytes, self.term_begins)

    @cached_property
    def words(self) -> list[str]:
        return _texts(self.word_bytes, self.word_begins)

    @cached_property
    def places(self) -> dict[str, int]:
        """The place of each term."""
        return {term: place for place, term in enumerate(self.terms)}

    def held(self, terms: Iterable[str]) -> NDArray[np.int64]:
        """Places of those terms that are in the vocabulary, each once, rising."""
        return np.array(sorted({self.places[term] for term in terms if term in self.places}), np.int64)

    def nearest(
        self, vectors: NDArray[np.float32], own: Sequence[NDArray[np.int64]], count: int
    ) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
        """Terms nearest to texts, by the cosine, without those that the texts hold.

        Parameters
        ----------
        vectors : (n, d) float32 array
            Of the texts, from the same encoder, of any length.
        own : n int64 arrays
            Places of the terms that each text holds.
        count : int
            The most terms a text.

        Returns
        -------
        places : (n, count) int64, best first; -1 where there are no more, or none that is not turned away
        cosines : (n, count) float32
        """
        places = np.full((len(vectors), count), -1, np.int64)
        cosines = np.zeros((len(vectors), count), np.float32)
        unit = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-12)
        for first in range(0, len(unit), ROWS_AT_ONCE):
            rows = slice(first, first + ROWS_AT_ONCE)
            found = products(unit[rows], self.vectors, np.empty((len(unit[rows]), len(self.vectors)), np.float32))
            for row, held in zip(found, own[rows], strict=True):
                row[held] = -1.0
            _best(found, places[rows], cosines[rows])
        return places, cosines


@njit(cache=True, nogil=True)
def _best(products: NDArray[np.float32], places: NDArray[np.int64], cosines: NDArray[np.float32]) -> None:
    """The largest of each row that are above 0, best first; ties go to the smaller place."""
    count = places.shape[1]
    scores, ids = np.empty(count), np.empty(count, np.int64)
    for row in range(products.shape[0]):
        size = 0
        for column in range(products.shape[1]):
            if products[row, column] > 0:
                size = offer(scores, ids, size, np.float64(products[row, column]), column)
        found = np.argsort(ids[:size])
        order = found[np.argsort(-scores[:size][found], kind="mergesort")]
        for place in range(size):
            places[row, place] = ids[order[place]]
            cosines[row, place] = scores[order[place]]


def gather(
    texts: Iterator[str], analysis: Analysis, encoder: TextEncoder, most: int, progress: Progress
) -> dict[str, NDArray[Any]]:
    """The vocabulary of a corpus as arrays of an artifact.

    Parameters
    ----------
    texts : iterator of str
        Of all chunks.
    most : int
        Terms at most: those that most chunks hold. What only one chunk holds leads nowhere else, and is left out.
    """
    numbering, held, said = analysis.numbering(), np.zeros(1024, np.int64), list[str]()
    for text in texts:
        numbers = np.unique(np.asarray(numbering(text), np.int64))
        if len(numbering.vocabulary) > len(held):
            held = np.concatenate([held, np.zeros(max(len(held), len(numbering.vocabulary)), np.int64)])
        held[numbers] += 1
        if len(said) < len(numbering.vocabulary):
            _say(text, analysis, numbering.vocabulary, said)
    names = list(numbering.vocabulary)
    words = np.array([bool(_WORD.fullmatch(name)) for name in names], bool)
    there = np.flatnonzero((held[: len(names)] > 1) & words)
    kept = np.sort(there[np.argsort(-held[there], kind="stable")[:most]])
    # In the order of their bytes, so that the order of documents decides nothing.
    kept = np.array(sorted(kept.tolist(), key=lambda number: names[number].encode()), np.int64)
    progress.start("encode the vocabulary", len(kept), "words")
    vectors = np.zeros((len(kept), encoder.dimension), np.float32)
    for first in range(0, len(kept), WORDS_AT_ONCE):
        part = [said[number] for number in kept[first : first + WORDS_AT_ONCE].tolist()]
        found = check_finite(encoder.questions(part), encoder, part)
        vectors[first : first + len(part)] = found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-12)
        progress.advance(len(part))
    arrays: dict[str, NDArray[Any]] = {"vectors": vectors}
    for name, texts_of in (("term", names), ("word", said)):
        encoded = [texts_of[number].encode() for number in kept.tolist()]
        arrays[f"{name}_bytes"] = np.frombuffer(b"".join(encoded), np.uint8)
        arrays[f"{name}_begins"] = np.cumsum([0, *map(len, encoded)]).astype(np.int64)
    return arrays


def _texts(bytes_of: NDArray[np.uint8], begins: NDArray[np.int64]) -> list[str]:
    whole = bytes_of.tobytes()
    return [whole[low:high].decode() for low, high in pairwise(begins.tolist())]


def _say(text: str, analysis: Analysis, known: Mapping[str, int], said: list[str]) -> None:
    """Note the words of a text that new terms stand for, in the order of the terms' numbers."""
    first = len(said)
    said += [""] * (len(known) - first)
    for term in analysis.terms(text):
        number = known[term.text]
        if number >= first and not said[number]:
            said[number] = text[term.start : term.end].lower()
