"""Postings of chunks with the terms that they do not hold but that mean much the same.

A chunk's own terms are counted in sixteenths, and a term that was added is some sixteenths of an occurrence, never
whole ones: so a posting says by its count alone whether the chunk holds the term, and searching, pruning, merging
and explaining are those of all postings. Lengths are those of the text.

References
----------
.. [1] M. Efron, P. Organisciak, K. Fenlon, "Improving Retrieval of Short Texts Through Document Expansion",
   SIGIR 2012, for the idea; the terms come from the vectors of the corpus's words here.
"""

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.dense.index import VECTORS
from doppio.core.branches.sparse.building import pack_counted
from doppio.core.branches.sparse.merging import merge_postings
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.vocabulary import KIND as VOCABULARY
from doppio.core.branches.sparse.vocabulary import ROWS_AT_ONCE, Vocabulary
from doppio.core.fingerprint import fingerprint
from doppio.core.progress import Progress
from doppio.core.store.pieces import Arrays, Building, Costing, Estimate, Facts, Merging, Piece, Source
from doppio.core.text.analysis import Analysis

KIND = "expanded-postings"
STEP = "expand chunks"
# Sixteenths of an occurrence; what is added has 1 to 15 of them.
WHOLE = 16
# Postings that are gathered before they are packed.
RUN = 8 << 20
A_POSTING, OWN_A_TOKEN = 3.0, 0.7


def sixteenths(cosines: NDArray[np.float32], weight: float) -> NDArray[np.int32]:
    """How much of an occurrence a term counts for that a chunk does not hold."""
    return np.clip(np.rint(cosines * (weight * WHOLE)), 1, WHOLE - 1).astype(np.int32)


def is_added(counts: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Which postings are of terms that chunks do not hold."""
    return np.asarray(counts % WHOLE != 0)


class AddingMaker:
    """What makers of postings with added terms share: what they say of them, how they merge, what they cost.

    step, rate : the step that makes them, and the chunks that it takes a second where it never ran here
    """

    step: str
    rate: float
    order = 4

    def written(self, made: Postings) -> Facts:
        return {"terms": made.terms, "entries": int(made.held.sum())}

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        merged = merge_postings(
            [(Postings.opened(one.artifact.arrays), one.now) for one in sources], count, merging.scratch
        )
        return merged.arrays(), self.written(merged)

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        disk = (tokens * OWN_A_TOKEN + chunks * piece.facts["terms"]) * A_POSTING
        return Estimate(chunks / costing.rate(self.step, self.rate), disk, disk + 12.0 * RUN)


class ExpandingMaker(AddingMaker):
    """See the module."""

    kinds: Mapping[str, str] = {KIND: STEP}
    wholes: Sequence[str] = (VOCABULARY,)
    step, rate = STEP, 1500.0

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            facts, numbers = piece.facts, building.numbers(place)
            vocabulary = Vocabulary.opened(building.store.open(VOCABULARY, facts["vocabulary"]).arrays)
            vectors = building.store.open(VECTORS, fingerprint(building.segment(place), facts["over"])).arrays[
                "vectors"
            ]
            building.progress.start(STEP, len(numbers), "chunks")
            made = expanded(
                texts_at_once(building, numbers), vectors, vocabulary, Analysis.of(facts["analysis"]),
                facts["terms"], facts["weight"], building.progress,
            )  # fmt: skip
            building.write(piece, place, made.arrays(), **self.written(made))


EXPANDING = ExpandingMaker()


def texts_at_once(building: Building, numbers: NDArray[np.int64]) -> Iterator[list[str]]:
    """Texts of chunks as they are indexed, some at a time."""
    for first in range(0, len(numbers), ROWS_AT_ONCE):
        yield building.texts.indexed(numbers[first : first + ROWS_AT_ONCE].tolist())


def expanded(
    texts: Iterator[list[str]],
    vectors: NDArray[np.float32],
    vocabulary: Vocabulary,
    analysis: Analysis,
    most: int,
    weight: float,
    progress: Progress,
) -> Postings:
    """Postings of chunks with their own terms and with those that are added.

    Parameters
    ----------
    texts : iterator of lists of str
        The chunks as they are indexed, some at a time.
    vectors : (n, d) float32 array
        Theirs.
    most : int
        Terms that are added to a chunk at most.
    weight : float
        What a term of cosine 1 would count for, as a share of an occurrence.
    """
    numbering = analysis.numbering()
    # Those of the vocabulary come first, so that a term's number is its place there.
    numbering.vocabulary.update(vocabulary.places)
    known, at, gathered = len(vocabulary.places), 0, Gathered(numbering.vocabulary)
    for part in texts:
        own = [np.unique(np.asarray(numbering(text), np.int64), return_counts=True) for text in part]
        held = [numbers[numbers < known] for numbers, _ in own]
        places, cosines = vocabulary.nearest(np.asarray(vectors[at : at + len(part)]), held, most)
        for (numbers, times), added, near in zip(own, places, cosines, strict=True):
            there = added >= 0
            gathered.take(numbers, times, added[there], sixteenths(near[there], weight))
        at += len(part)
        progress.advance(len(part))
    return gathered.packed()


class Gathered:
    """Postings as they are gathered, chunk by chunk; packed in runs, which are merged at the end.

    vocabulary : numbers of the terms, which may grow meanwhile
    """

    def __init__(self, vocabulary: Mapping[str, int]) -> None:
        self._vocabulary = vocabulary
        self._runs: list[tuple[Postings, NDArray[np.int64]]] = []
        self._first = self._at = 0
        self._begin()

    def _begin(self) -> None:
        self._terms, self._counts = list[NDArray](), list[NDArray]()
        self._sizes, self._lengths, self._gathered = list[int](), list[int](), 0

    def take(self, own: NDArray, times: NDArray, added: NDArray, counts: NDArray[np.int32]) -> None:
        """One more chunk: the numbers of its own terms with how often it holds each, and those of added ones with the
        sixteenths that each counts for."""
        self._terms += [own, added]
        self._counts += [times.astype(np.int32) * WHOLE, counts]
        self._sizes.append(len(own) + len(added))
        self._lengths.append(int(times.sum()))
        self._gathered += self._sizes[-1]
        self._at += 1
        if self._gathered >= RUN:
            self._run()

    def _run(self) -> None:
        made = _packed(self._vocabulary, self._terms, self._counts, self._sizes, self._lengths)
        self._runs.append((made, np.arange(self._first, self._at)))
        self._first = self._at
        self._begin()

    def packed(self) -> Postings:
        """The postings of all chunks that were taken."""
        if not self._runs:
            return _packed(self._vocabulary, self._terms, self._counts, self._sizes, self._lengths)
        self._run()
        return merge_postings(self._runs, self._at)


def _packed(
    vocabulary: Mapping[str, int],
    terms: Sequence[NDArray],
    counts: Sequence[NDArray],
    sizes: Sequence[int],
    lengths: Sequence[int],
) -> Postings:
    none = np.empty(0, np.int64)
    return pack_counted(
        list(vocabulary),
        np.concatenate([none, *terms]).astype(np.int32),
        np.concatenate([none, *counts]).astype(np.int32),
        np.array(sizes, np.int64),
        np.array(lengths, np.int32),
    )
