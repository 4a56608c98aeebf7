"""Which chunks hold which terms, how often: an inverted index as flat arrays."""

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact
from doppio.core.progress import Progress, Silent
from doppio.core.reuse import Taken
from doppio.core.text.analysis import Analysis

KIND = "postings"


@dataclass(frozen=True)
class Postings:
    """Term t is in chunks `chunks[begins[t]:begins[t + 1]]` (rising), `counts[...]` times each.

    vocabulary : dict from term to its number
    begins : (terms + 1,) int64
    chunks : (postings,) int32
    counts : (postings,) int32
    lengths : (chunks,) int32, terms a chunk
    """

    vocabulary: dict[str, int]
    begins: NDArray[np.int64]
    chunks: NDArray[np.int32]
    counts: NDArray[np.int32]
    lengths: NDArray[np.int32]

    def of(self, term: str) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
        """Chunks that hold the term, and how often each does; empty for an unknown term."""
        number = self.vocabulary.get(term)
        span = slice(0, 0) if number is None else slice(self.begins[number], self.begins[number + 1])
        return self.chunks[span], self.counts[span]

    def arrays(self) -> dict[str, NDArray]:
        """As the arrays of an artifact; the vocabulary becomes one JSON text, in the order of its numbers."""
        terms = json.dumps(list(self.vocabulary), ensure_ascii=False).encode()
        return {
            "terms": np.frombuffer(terms, np.uint8),
            "begins": self.begins,
            "chunks": self.chunks,
            "counts": self.counts,
            "lengths": self.lengths,
        }


def build_postings(
    texts: Iterable[str], count: int, analysis: Analysis, progress: Progress | None = None
) -> Postings:
    """Index `count` texts; the n-th text is chunk n."""
    progress = progress or Silent()
    progress.start("index terms", count, "chunks")
    vocabulary: dict[str, int] = {}
    terms: list[NDArray[np.int64]] = []
    lengths = np.zeros(count, np.int32)
    for chunk, text in enumerate(texts):
        numbers = [vocabulary.setdefault(term.text, len(vocabulary)) for term in analysis.terms(text)]
        terms.append(np.asarray(numbers, np.int64))
        lengths[chunk] = len(numbers)
        progress.advance(1)
    joined = np.concatenate(terms) if terms else np.empty(0, np.int64)
    owner = np.repeat(np.arange(count, dtype=np.int64), lengths)
    keys, counts = np.unique(joined * max(count, 1) + owner, return_counts=True)
    term_of = keys // max(count, 1)
    begins = np.searchsorted(term_of, np.arange(len(vocabulary) + 1))
    return Postings(
        vocabulary,
        begins.astype(np.int64),
        (keys % max(count, 1)).astype(np.int32),
        counts.astype(np.int32),
        lengths,
    )


def taken_over(before: Postings, taken: Taken, fresh: Postings, count: int) -> Postings:
    """Postings of `count` chunks from older ones and those of the chunks that are new.

    Parameters
    ----------
    before : Postings
        Of an older chunk table.
    taken : Taken
        Which of its chunks are still there, and as which.
    fresh : Postings
        Of the other chunks, in the order of `taken.rest(count)`.

    Notes
    -----
    Equal to what `build_postings` makes of all texts, but for the order of the vocabulary.
    """
    now = np.full(len(before.lengths), -1, np.int64)
    now[taken.old] = taken.new
    rest = taken.rest(count)
    vocabulary = dict(before.vocabulary)
    numbers = np.array([vocabulary.setdefault(term, len(vocabulary)) for term in fresh.vocabulary], np.int64)
    kept = now[before.chunks]
    there = kept >= 0
    old_terms = np.repeat(np.arange(len(before.begins) - 1), np.diff(before.begins))
    new_terms = np.repeat(numbers, np.diff(fresh.begins)) if len(numbers) else np.empty(0, np.int64)
    terms = np.concatenate([old_terms[there], new_terms])
    chunks = np.concatenate([kept[there], rest[fresh.chunks]])
    counts = np.concatenate([before.counts[there], fresh.counts])
    used, place = np.unique(terms, return_inverse=True)
    names = list(vocabulary)
    order = np.lexsort((chunks, place))
    lengths = np.zeros(count, np.int32)
    lengths[taken.new] = before.lengths[taken.old]
    lengths[rest] = fresh.lengths
    return Postings(
        {names[number]: position for position, number in enumerate(used.tolist())},
        np.searchsorted(place[order], np.arange(len(used) + 1)).astype(np.int64),
        chunks[order].astype(np.int32),
        counts[order].astype(np.int32),
        lengths,
    )


def open_postings(artifact: Artifact) -> Postings:
    """Postings of an opened artifact, mapped from disk."""
    arrays = artifact.arrays
    terms: Sequence[str] = json.loads(bytes(arrays["terms"]).decode())
    vocabulary = {term: number for number, term in enumerate(terms)}
    return Postings(vocabulary, arrays["begins"], arrays["chunks"], arrays["counts"], arrays["lengths"])
