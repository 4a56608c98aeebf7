"""The sparse index as a question sees it: segments with their deletions, one set of statistics, one ranking."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
from numba import njit
from numpy.typing import NDArray

from doppio.core.at_hand import K, V, kept
from doppio.core.branches.explained import TermShare
from doppio.core.branches.sparse.postings import Postings
from doppio.core.branches.sparse.ranges import LARGE, TERMS_IN_RANGES, best_in_ranges, fill_tops
from doppio.core.branches.sparse.scan import FIRST_WINDOW, offer_all, scan_all, scan_best, vector_units
from doppio.core.branches.sparse.tops import Tops
from doppio.core.branches.sparse.weighting import DIRICHLET, TF_IDF, Weighting, block_units, on_grid, share_of
from doppio.core.kernels.rows import named, rows_of
from doppio.core.ranking import Ids, Scores, best_of

# Terms as they come, or each with its weight.
Terms = Sequence[str] | Mapping[str, float]
NONE_DEAD = np.empty(0, np.bool_)
NONE = np.empty(0, np.float64)
# Settings of a weighting whose bounds stay at hand: 8 bytes a block each.
SETTINGS_KEPT = 4
# Terms whose bounds stay at hand, for the variant that has its own for each.
TERMS_KEPT = 2000


@dataclass(frozen=True)
class Asked:
    """A term of a question that some chunk holds."""

    term: str
    repeats: float
    held: int
    weight: float
    slope: float


class Zeros:
    """Arrays of zeros that are at hand, so that a question need not wait for fresh memory."""

    def __init__(self, kept: int = 4) -> None:
        self._kept = kept
        self._free: list[NDArray[np.float64]] = []

    def take(self, size: int) -> NDArray[np.float64]:
        """Zeros that nobody else has: (size,) float64."""
        try:
            found = self._free.pop()
        except IndexError:
            return np.zeros(size)
        return found if len(found) == size else np.zeros(size)

    def give(self, zeros: NDArray[np.float64]) -> None:
        """Hand an array back; it holds zeros again."""
        if len(self._free) < self._kept:
            self._free.append(zeros)


ZEROS = Zeros()


@dataclass(frozen=True)
class Segment:
    """Postings of some chunks, and which chunks of the index they are.

    now : (n,) int64, the number of each in the index, rising; -1 where it is deleted; empty where it is its place
    """

    postings: Postings
    now: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))

    @property
    def dead(self) -> NDArray[np.bool_]:
        """Which chunks are deleted; empty where none is."""
        gone = self.now < 0
        return gone if gone.any() else NONE_DEAD

    def numbers(self) -> NDArray[np.int64]:
        return self.now if self.now.size else np.arange(len(self.postings), dtype=np.int64)


class SparseIndex:
    """Segments that are searched as one.

    Notes
    -----
    A term's statistics count the chunks that are left, so a ranking is that of an index built afresh: the scores
    agree to the last bit, and ties go to the smaller number.
    """

    def __init__(self, segments: Sequence[Segment]) -> None:
        self.segments = list(segments)
        self._dead = [segment.dead for segment in self.segments]
        self._any_dead = any(dead.size for dead in self._dead)
        self._gone: dict[str, tuple[int, int]] = {}
        self._vocabulary: dict[str, int] | None = None
        self._after_of: dict[tuple[Weighting, int], tuple[NDArray[np.float64], float]] = {}
        self._norm_of: dict[tuple[Weighting, int], NDArray[np.float32]] = {}
        self._tops: dict[tuple[Weighting, int], Tops] = {}
        self._unit_of: dict[tuple[Weighting, int, int], NDArray[np.float64]] = {}
        self.count, self.length = 0, 0
        for segment, dead in zip(self.segments, self._dead, strict=True):
            lengths = segment.postings.lengths
            self.count += len(lengths) - int(dead.sum())
            self.length += int(lengths.sum(dtype=np.int64)) - (int(lengths[dead].sum()) if dead.size else 0)

    @property
    def mean(self) -> float:
        """Mean length of a chunk in terms, at least 1."""
        return max(self.length / self.count, 1.0) if self.count else 1.0

    @property
    def entries(self) -> int:
        """Pairs of term and chunk, those of deleted chunks counted in."""
        return sum(int(segment.postings.held.sum(dtype=np.int64)) for segment in self.segments)

    def lengths(self) -> NDArray[np.int32]:
        """Terms of every chunk, by its number: (count,) int32."""
        found = np.zeros(self.count, np.int32)
        for segment in self.segments:
            now = segment.numbers()
            found[now[now >= 0]] = segment.postings.lengths[now >= 0]
        return found

    def statistics(self, term: str) -> tuple[int, int]:
        """Chunks that hold a term, and how often it stands in all of them together."""
        held = times = 0
        for segment in self.segments:
            number = segment.postings.number(term)
            if number >= 0:
                held += int(segment.postings.held[number])
                times += int(segment.postings.occurrences[number])
        gone = self._gone_of(term)
        return held - gone[0], times - gone[1]

    def _gone_of(self, term: str) -> tuple[int, int]:
        """What the deleted chunks have of a term's statistics; looked up once a term."""
        if not self._any_dead:
            return 0, 0
        if term not in self._gone:
            held = times = 0
            for segment, dead in zip(self.segments, self._dead, strict=True):
                if dead.size:
                    chunks, counts = segment.postings.of(segment.postings.number(term))
                    held += int(dead[chunks].sum())
                    times += int(counts[dead[chunks]].sum())
            self._gone[term] = held, times
        return self._gone[term]

    def holders(self, term: str) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
        """Numbers of the chunks that hold a term, rising, and how often each does."""
        chunks: list[NDArray[np.int64]] = [np.empty(0, np.int64)]
        counts: list[NDArray[np.int32]] = [np.empty(0, np.int32)]
        for segment in self.segments:
            own, repeats = segment.postings.of(segment.postings.number(term))
            now = own.astype(np.int64) if not segment.now.size else segment.now[own]
            there = now >= 0
            chunks.append(now[there])
            counts.append(repeats[there])
        joined = np.concatenate(chunks)
        order = np.argsort(joined, kind="stable")
        return joined[order], np.concatenate(counts)[order]

    def vocabulary(self) -> dict[str, int]:
        """Chunks that hold each term, over all terms; worked out once."""
        if self._vocabulary is None:
            self._vocabulary = self._counted()
        return self._vocabulary

    def _counted(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for segment, dead in zip(self.segments, self._dead, strict=True):
            held = _alive_holders(segment.postings, dead) if dead.size else segment.postings.held.astype(np.int64)
            for number, count in enumerate(held.tolist()):
                if count:
                    term = segment.postings.term(number)
                    found[term] = found.get(term, 0) + count
        return found

    def search(
        self,
        terms: Terms,
        depth: int,
        weighting: Weighting,
        *,
        exhaustive: bool | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, Scores]:
        """Rank chunks for the terms of one question.

        Parameters
        ----------
        terms : sequence of str, or mapping from term to weight
            Analysed as the chunks were; a term that stands twice counts twice, as one of weight 2 does.
        depth : int
            The most chunks to return.
        weighting : Weighting
        exhaustive : bool or None
            Whether to score every chunk that holds a term, without looking which can be among the best; the result
            is the same. None where a segment's size decides: in a small one there is nothing to leave out, and the
            plain scan is compiled in a fraction of the time.
        allowed : (chunks,) bool array or None
            The chunks that may be found; None where all may. Statistics are those of all chunks all the same.

        Returns
        -------
        chunks : (m,) int64 array, best first
        scores : (m,) float32 array, larger is better

        Notes
        -----
        Only chunks that hold a term are returned, so the list may be empty. Ties go to the smaller number.
        """
        return best_of([self.candidates(terms, depth, weighting, exhaustive=exhaustive, allowed=allowed)], depth)

    def candidates(
        self,
        terms: Terms,
        depth: int,
        weighting: Weighting,
        *,
        exhaustive: bool | None = None,
        allowed: NDArray[np.bool_] | None = None,
    ) -> tuple[Ids, NDArray[np.float64]]:
        """The chunks of `search` in any order, with their scores before they are rounded."""
        asked = self._asked(terms, weighting)
        if not asked or depth <= 0:
            return np.empty(0, np.int64), np.empty(0)
        heap_scores, heap_chunks = np.empty(min(depth, self.count)), np.empty(min(depth, self.count), np.int64)
        size, times = 0, _times(asked)
        for place, (segment, dead) in enumerate(zip(self.segments, self._dead, strict=True)):
            p = segment.postings
            if allowed is not None:
                dead = ~named(allowed, segment.now)
            known = [(p.number(term.term), term.weight, term.slope) for term in asked]
            known = [entry for entry in known if entry[0] >= 0]
            if not known:
                continue
            numbers = np.array([entry[0] for entry in known], np.int64)
            weights, slopes = (np.array([entry[side] for entry in known], np.float64) for side in (1, 2))
            (after, most), norms = self._after(place, weighting), self._norms(place, weighting)
            shared = numbers, weights, slopes, weighting.number, weighting.k1, weighting.delta, norms
            blocks = p.held, p.block_begins, p.block_last, p.block_at, p.block_bits, p.data
            if len(p) <= FIRST_WINDOW if exhaustive is None else exhaustive:
                scores = ZEROS.take(len(p))
                scan_all(*shared, *blocks, scores)
                size = offer_all(scores, after, times, dead, segment.now, heap_scores, heap_chunks, size)
                ZEROS.give(scores)
                continue
            heap = heap_scores, heap_chunks, size
            size = self._best(place, weighting, shared, (after, times, times * most), blocks, dead, heap)
        return heap_chunks[:size], heap_scores[:size]

    def _best(  # type: ignore[no-untyped-def]
        self, place: int, weighting: Weighting, shared, lift, blocks, dead, heap
    ) -> int:
        """Offer the best chunks of a segment to a heap, by ranges where few of them can hold one."""
        segment = self.segments[place]
        numbers, weights, slopes, *settings = shared
        best, _, filled = heap
        floor = best[0] if filled == len(best) else -np.inf
        if len(segment.postings) > LARGE and len(numbers) <= TERMS_IN_RANGES:
            tops = kept(
                self._tops,
                (weighting, place),
                lambda: Tops(len(segment.postings)),
                SETTINGS_KEPT * max(len(self.segments), 1),
            )
            terms, done = list(zip(numbers.tolist(), slopes.tolist(), strict=True)), False
            with tops.read(
                terms, lambda term, fine, coarse: fill_tops(*term, *settings, *blocks, fine, coarse)
            ) as rows:
                if rows is not None:
                    steps = tops.steps[rows] * weights
                    order = np.argsort(steps)
                    size, floor, done = best_in_ranges(
                        np.array(rows)[order], steps[order], tops.fine, tops.coarse, floor, numbers[order],
                        weights[order], slopes[order], *settings, *lift, *blocks, dead, segment.now, *heap
                    )  # fmt: skip
            if done:
                return size
        units, begins = self._units(place, weighting, numbers, slopes)
        return scan_best(numbers, weights, slopes, *settings, *lift, floor, units, begins, *blocks, dead,
                         segment.now, *heap)  # fmt: skip

    def search_many(
        self,
        questions: Sequence[Terms],
        depth: int,
        weighting: Weighting,
        *,
        threads: int = 2,
        allowed: NDArray[np.bool_] | None = None,
    ) -> Iterator[tuple[Ids, Scores]]:
        """Rankings of many questions, in their order, on several threads; the scans hold no lock."""
        if len(questions) == 1:
            yield self.search(questions[0], depth, weighting, allowed=allowed)
            return
        with ThreadPoolExecutor(threads) as pool:
            yield from pool.map(lambda terms: self.search(terms, depth, weighting, allowed=allowed), questions)

    def explain(
        self, terms: Terms, chunks: Sequence[int], weighting: Weighting
    ) -> tuple[list[list[TermShare]], list[float]]:
        """Share of every term in the score of each chunk, and what its length adds; all add up to the score."""
        wanted = np.asarray(chunks, np.int64)
        rows: list[list[TermShare]] = [[] for _ in chunks]
        asked = self._asked(terms, weighting)
        norms, after = self.norms_of(wanted, weighting), np.zeros(len(wanted))
        at = [rows_of(segment.now, len(segment.postings), wanted) for segment in self.segments]
        for place, (here, local) in enumerate(at):
            extra, _ = self._after(place, weighting)
            after[here] = on_grid(_times(asked) * extra[local]) if extra.size else 0.0
        known = {term.term: term for term in asked}
        for term, repeats in Counter(terms).items():
            held = np.zeros(len(wanted), np.int64)
            for segment, (here, local) in zip(self.segments, at, strict=True):
                held[here] = segment.postings.counts(segment.postings.number(term), local)
            holders = self.statistics(term)[0]
            weight, slope = (known[term].weight, known[term].slope) if term in known else (0.0, 0.0)
            shares = _shares(weighting.number, weight, slope, held, norms, weighting.k1, weighting.delta)
            idf = weighting.idf(self.count, holders)
            for row, count, share in zip(rows, held.tolist(), shares.tolist(), strict=True):
                row.append(TermShare(term, repeats, count, holders, idf, share))
        found = [any(share.share for share in row) for row in rows]
        return rows, [extra if any_term else 0.0 for extra, any_term in zip(after.tolist(), found, strict=True)]

    def norms_of(self, chunks: Ids, weighting: Weighting) -> NDArray[np.float32]:
        """What the length of each chunk makes of k1; see `Weighting.norms`."""
        norms = np.ones(len(chunks), np.float32)
        for place, segment in enumerate(self.segments):
            here, local = rows_of(segment.now, len(segment.postings), chunks)
            norms[here] = self._norms(place, weighting)[local]
        return norms

    def _units(
        self, place: int, weighting: Weighting, numbers: Ids, slopes: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], Ids]:
        """What a term of weight 1 adds at most, block by block, and where the blocks of each term begin.

        For all blocks of a segment it is worked out once a setting; with "dirichlet" it hangs on the term, and is
        worked out for the terms that are asked.
        """
        p = self.segments[place].postings
        if weighting.variant != DIRICHLET:
            units = self._kept(self._unit_of, (weighting, place, -1), lambda: self._all_units(place, weighting))
            return units, p.block_begins[numbers]
        parts = [
            self._kept(
                self._unit_of,
                (weighting, place, number),
                lambda number=number, slope=slope: self._block_units(  # type: ignore[misc]
                    place, weighting, int(p.block_begins[number]), int(p.block_begins[number + 1]), slope
                ),
                TERMS_KEPT,
            )
            for number, slope in zip(numbers.tolist(), slopes.tolist(), strict=True)
        ]
        sizes = np.array([len(part) for part in parts], np.int64)
        return np.concatenate(parts), np.cumsum(sizes) - sizes

    def _all_units(self, place: int, weighting: Weighting) -> NDArray[np.float64]:
        p = self.segments[place].postings
        if weighting.variant != TF_IDF:
            return self._block_units(place, weighting, 0, len(p.block_last), 0.0)
        return vector_units(
            self._norms(place, weighting), p.held, p.block_begins, p.block_last, p.block_at, p.block_bits, p.data
        )

    def _block_units(
        self, place: int, weighting: Weighting, first: int, final: int, slope: float
    ) -> NDArray[np.float64]:
        p = self.segments[place].postings
        return block_units(first, final, p.peak_begins, p.peaks, weighting.number, slope,
                           *weighting.norms(self.mean), weighting.k1, weighting.delta)  # fmt: skip

    def _kept(self, held: dict[K, V], key: K, make: Callable[[], V], most: int = SETTINGS_KEPT) -> V:
        return kept(held, key, make, most * max(len(self.segments), 1))

    def _asked(self, terms: Terms, weighting: Weighting) -> list[Asked]:
        """Terms with their weights and slopes; those that no chunk holds are left out."""
        found = []
        for term, repeats in Counter(terms).items():
            held, times = self.statistics(term)
            if held:
                slope = self.length / (weighting.mu * times) if weighting.variant == DIRICHLET else 0.0
                found.append(Asked(term, repeats, held, repeats * weighting.idf(self.count, held), slope))
        if weighting.variant == TF_IDF:
            idf = [weighting.idf(self.count, term.held) for term in found]
            # A weight below 1 is no count, and counts as it is.
            own = [
                (1 + np.log(term.repeats) if term.repeats >= 1 else term.repeats) * value
                for term, value in zip(found, idf, strict=True)
            ]
            norm = float(np.sqrt(np.sum(np.square(own))))
            found = [
                replace(term, weight=float(mine) * value / norm)
                for term, mine, value in zip(found, own, idf, strict=True)
            ]
        return [term for term in found if term.weight > 0]

    def _after(self, place: int, weighting: Weighting) -> tuple[NDArray[np.float64], float]:
        """What a chunk gains for every term that is asked, whether it holds it or not, empty where nothing; and the
        most that one gains."""
        if weighting.variant != DIRICHLET:
            return NONE, 0.0
        return self._kept(self._after_of, (weighting, place), lambda: self._made_after(place, weighting))

    def _made_after(self, place: int, weighting: Weighting) -> tuple[NDArray[np.float64], float]:
        after = np.log(weighting.mu / (self.segments[place].postings.lengths + weighting.mu))
        return after, float(after.max()) if after.size else 0.0

    def _norms(self, place: int, weighting: Weighting) -> NDArray[np.float32]:
        """Norm of every chunk of a segment; for TF-IDF 1 / the length of its vector. Found once a setting."""
        return self._kept(self._norm_of, (weighting, place), lambda: self._made_norms(place, weighting))

    def _made_norms(self, place: int, weighting: Weighting) -> NDArray[np.float32]:
        postings = self.segments[place].postings
        if weighting.variant == TF_IDF:
            return _vector_norms(postings, self.vocabulary(), self.count)
        base, rise = weighting.norms(self.mean)
        return (base + rise * postings.lengths.astype(np.float64)).astype(np.float32)


def unfound_share(index: SparseIndex, terms: Sequence[str]) -> float:
    """The share of terms that nothing in an index holds, each weighted by its inverse document frequency, 0 to 1."""
    held = np.array([index.statistics(term)[0] for term in terms], np.float64)
    weights = np.log1p((index.count - held + 0.5) / (held + 0.5))
    return float(weights[held == 0].sum() / weights.sum()) if len(held) else 0.0


def _times(asked: Sequence[Asked]) -> float:
    return float(sum(term.repeats for term in asked))


def _alive_holders(postings: Postings, dead: NDArray[np.bool_]) -> NDArray[np.int64]:
    chunks, _ = postings.everything()
    owner = np.repeat(np.arange(postings.terms), postings.held)
    return np.bincount(owner[~dead[chunks]], minlength=postings.terms)


def _vector_norms(postings: Postings, held: Mapping[str, int], count: int) -> NDArray[np.float32]:
    weighting = Weighting(TF_IDF)
    idf = np.array([weighting.idf(count, held.get(postings.term(number), 0)) for number in range(postings.terms)])
    chunks, counts = postings.everything()
    weights = (1 + np.log(counts)) * np.repeat(idf, postings.held)
    squares = np.bincount(chunks, weights**2, minlength=len(postings))
    return (1 / np.sqrt(np.maximum(squares, 1e-30))).astype(np.float32)


@njit(cache=True, nogil=True)
def _shares(variant, weight, slope, held, norms, k1, delta):  # type: ignore[no-untyped-def]
    """Shares of one term in several chunks."""
    shares = np.zeros(held.size, np.float64)
    for place in range(held.size):
        if held[place] > 0 and weight > 0:
            shares[place] = share_of(variant, weight, slope, held[place], norms[place], k1, delta)
    return shares
