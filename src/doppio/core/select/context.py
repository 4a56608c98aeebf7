"""From the last ranking to the context: versions, variety, widening, what fits the budget, the order of writing."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Settings
from doppio.core.select.diversity.kind import DIVERSITY
from doppio.core.select.kind import SELECTION, Passages
from doppio.core.select.marginal import by_marginal_relevance
from doppio.core.select.orders.kind import ORDERS
from doppio.core.select.packing import first_groups
from doppio.core.select.pool import Pool
from doppio.core.select.versions.kind import VERSIONS, instead_of
from doppio.core.select.widening.around import merged
from doppio.core.select.widening.kind import WIDENING, Widened
from doppio.core.text.units import TokenOffsets
from doppio.core.trace import ANOTHER_VERSION, BELOW, OVER_BUDGET, PASSED_OVER

NOT_FITTING = "not widened: over the budget"


@dataclass(frozen=True)
class Packed:
    """What has become of n passages; the chosen ones come first, in the order in which they were chosen.

    places : (n,) int64, where each stood among those that came
    taken : (n,) bool
    reasons : n texts, why one is not taken; empty where it is
    tokens : of all that is handed on, each piece counted once
    ranges : (n, 3) int64, what each hands on; None where nothing widens
    widened : n texts, why it hands on more than was found, or why it does not
    written : (n,) int64, from 1, its place in the context as it is written; 0 where it is not. Passages of one piece
        share a place.
    instead : (n,) int64, the chunk of the version that stands for it, -1 where none does; None where none was sought
    repeated : (n,) float32, how alike it is to what was chosen before; None where that does not count
    """

    places: NDArray[np.int64]
    taken: NDArray[np.bool_]
    reasons: tuple[str, ...]
    tokens: int
    ranges: NDArray[np.int64] | None
    widened: tuple[str, ...]
    written: NDArray[np.int64]
    instead: NDArray[np.int64] | None
    repeated: NDArray[np.float32] | None


def packed(
    pool: Pool,
    groups: NDArray[np.int64],
    settings: Settings,
    tokens: TokenOffsets | None,
    budget: TokenOffsets | None = None,
) -> Packed:
    """Choose, widen and pack.

    Parameters
    ----------
    pool : Pool
        What the last ranking passed on.
    groups : (n,) int64 array
        Passages of one group hand on the same text.
    settings : Settings
        The recipe's `select`.
    tokens : TokenOffsets or None
        Counts the encoder's tokens; needed where something is widened.
    budget : TokenOffsets or None
        Counts the tokens of the budget; None where these are the encoder's.

    Notes
    -----
    A passage that was widened and does not fit is handed on as it was found, where that fits. Its own tokens are
    never fewer for being inside of a piece that was paid for: pieces that overlap are one, and cost once.
    """
    places, reasons, instead, repeated = _chosen(pool, groups, settings)
    ordered = pool.some(places)
    chosen = int(np.sum([reason == "" for reason in reasons]))
    first, own = ordered.some(np.arange(chosen)), groups[places[:chosen]]
    costs = pool.table.handed[first.chunks]
    if budget is not None and chosen:
        assert tokens is not None
        costs = _recounted(first, costs, tokens, budget)
    ranges, widened, pieces = None, ("",) * len(places), own
    widening = WIDENING.get(settings["widening"]["kind"])
    if widening.widens and chosen:
        assert tokens is not None
        found = widening.widened(first, settings["widening"])
        places[:chosen] = places[:chosen][found.order]
        ordered, first, costs = pool.some(places), first.some(found.order), costs[found.order]
        if instead is not None:
            instead[:chosen] = instead[:chosen][found.order]
        if repeated is not None:
            repeated[:chosen] = repeated[:chosen][found.order]
        fitted = _fitted(first, found.in_order(), costs, settings["budget_tokens"], budget or tokens)
        ranges = np.concatenate([fitted.ranges, ordered.ranges[chosen:]])
        widened = fitted.reasons + widened[chosen:]
        pieces, costs = fitted.pieces, fitted.costs
    passages = Passages(
        first.chunks,
        first.scores,
        costs,
        pieces,
        lambda: _handed_on(first, None if ranges is None else ranges[:chosen]),
    )
    fits = SELECTION.get(settings["rule"]).take(passages, settings)
    taken = np.concatenate([fits, np.zeros(len(places) - chosen, bool)])
    reasons[:chosen] = ["" if fit else OVER_BUDGET for fit in fits]
    kept, firsts = pieces[fits], np.array([], np.int64)
    if len(kept):
        _, firsts = np.unique(kept, return_index=True)
        firsts = np.sort(firsts)
    written = np.zeros(len(places), np.int64)
    spans = (ordered.ranges if ranges is None else ranges)[:chosen][fits][firsts]
    order = ORDERS.get(settings["order"]["kind"]).written(spans, settings["order"])
    place_of = {int(kept[firsts[piece]]): place + 1 for place, piece in enumerate(order.tolist())}
    written[:chosen][fits] = [place_of[piece] for piece in kept.tolist()]
    return Packed(
        places, taken, tuple(reasons), int(costs[fits][firsts].sum()), ranges, widened, written, instead, repeated
    )


def _chosen(
    pool: Pool, groups: NDArray[np.int64], settings: Settings
) -> tuple[NDArray[np.int64], list[str], NDArray[np.int64] | None, NDArray[np.float32] | None]:
    """The order in which passages come, why some do not, what stands for them, and how much they repeat."""
    every = np.arange(len(pool))
    rule, diversity = VERSIONS.get(settings["versions"]["kind"]), DIVERSITY.get(settings["diversity"]["kind"])
    stands = instead_of(rule, pool, settings["versions"])
    there = every[stands == every]
    k = settings["k"]
    # Of a group the best passage is compared; the others say the same.
    _, first = np.unique(groups[there], return_index=True)
    heads = there[np.sort(first)]
    repeats = np.zeros(len(pool), np.float32)
    if diversity.chooses:
        some = pool.some(heads)
        likeness = diversity.likeness(some, settings["diversity"])
        picked, alike = by_marginal_relevance(some.scores, likeness, settings["diversity"]["strength"], k)
        heads = heads[picked]
        repeats[heads] = alike
    place = {group: at for at, group in enumerate(groups[heads].tolist())}
    within = [
        (place[group], at) for at, group in zip(there.tolist(), groups[there].tolist(), strict=True) if group in place
    ]
    ordered = np.array([at for _, at in sorted(within)], np.int64)
    ordered = ordered[first_groups(groups[ordered], k)] if len(ordered) else ordered
    left = np.setdiff1d(every, ordered)
    # What would not have been taken anyway was not passed over.
    near = first_groups(groups, k)
    why = ["" for _ in ordered] + [
        ANOTHER_VERSION if stands[at] != at else PASSED_OVER if near[at] else BELOW for at in left.tolist()
    ]
    places = np.concatenate([ordered, left]).astype(np.int64)
    instead = np.where(stands == every, -1, pool.chunks[stands])[places] if rule.chooses else None
    return places, why, instead, repeats[places] if diversity.chooses else None


@dataclass(frozen=True)
class _Fitted:
    """Ranges with their reasons, the piece that each is of, and what it costs."""

    ranges: NDArray[np.int64]
    reasons: tuple[str, ...]
    pieces: NDArray[np.int64]
    costs: NDArray[np.int64]


def _fitted(
    pool: Pool,
    widened: Widened,
    own_costs: NDArray[np.int64],
    budget: int,
    tokens: TokenOffsets,
) -> _Fitted:
    """Widened passages, best first, as far as the budget goes; those that it does not hold are as they were found."""
    own = pool.ranges
    tried = [[*map(tuple, ladder), tuple(row)] for ladder, row in zip(widened.ladders, own.tolist(), strict=True)]
    counted = _Counted(pool, merged(np.array([row for rows in tried for row in rows], np.int64)), own_costs, tokens)
    kept, told, fitting = own.copy(), list(widened.reasons), list[int]()
    for place, rows in enumerate(tried):
        fits = (row for row in rows if counted.sum(merged(np.concatenate([kept[fitting], [row]]))) <= budget)
        found = next(fits, None)
        if found is not None:
            kept[place] = found
            fitting.append(place)
        if len(rows) > 1 and found in (None, rows[-1]):
            told[place] = NOT_FITTING
    whole = own.copy()
    whole[fitting] = merged(kept[fitting])
    _, pieces = np.unique(whole, axis=0, return_inverse=True)
    return _Fitted(whole, tuple(told), pieces.ravel().astype(np.int64), counted.each(whole))


class _Counted:
    """Tokens of ranges; texts are read and cut into tokens once.

    reach : (m, 3) int64, merged ranges that hold all that are counted
    own_costs : of what each passage hands on as it was found
    """

    def __init__(
        self, pool: Pool, reach: NDArray[np.int64], own_costs: NDArray[np.int64], tokens: TokenOffsets
    ) -> None:
        own = pool.ranges
        chunk_of = dict(zip(own[:, 0].tolist(), pool.chunks.tolist(), strict=True))
        rows = np.unique(reach, axis=0).tolist()
        texts = pool.source.between(
            [chunk_of[document] for document, _, _ in rows],
            [low for _, low, _ in rows],
            [high for _, _, high in rows],
        )
        self._read = list(zip(rows, tokens.token_offsets(texts), strict=True))
        # What a document hands on beside its text, such as carried fields, is in each passage's cost already.
        beside = np.maximum(own_costs - [self._tokens(*row) for row in own.tolist()], 0)
        self._beside = dict(zip(own[:, 0].tolist(), beside.tolist(), strict=True))
        self._known = {tuple(row): int(cost) for row, cost in zip(own.tolist(), own_costs.tolist(), strict=True)}

    def each(self, ranges: NDArray[np.int64]) -> NDArray[np.int64]:
        for row in map(tuple, ranges.tolist()):
            if row not in self._known:
                self._known[row] = self._tokens(*row) + self._beside[row[0]]
        return np.array([self._known[tuple(row)] for row in ranges.tolist()], np.int64)

    def sum(self, ranges: NDArray[np.int64]) -> int:
        """Of ranges that are merged, those that are the same once."""
        return int(self.each(np.unique(ranges, axis=0)).sum())

    def _tokens(self, document: int, start: int, end: int) -> int:
        for (owner, low, high), units in self._read:
            if owner == document and low <= start and end <= high:
                return int(units.count(np.array([start - low]), np.array([end - low]))[0])
        raise ValueError(f"nothing was read around {start} to {end} of document {document}")


def _recounted(pool: Pool, costs: NDArray[np.int64], tokens: TokenOffsets, budget: TokenOffsets) -> NDArray[np.int64]:
    """What passages cost by other tokens; what they hand on beside their text is counted as it was."""
    before, now = (counting.token_counts(pool.texts) for counting in (tokens, budget))
    return now + np.maximum(costs - before, 0)


def _handed_on(pool: Pool, ranges: NDArray[np.int64] | None) -> list[str]:
    if ranges is None:
        return pool.texts
    return pool.source.between(pool.chunks.tolist(), ranges[:, 1].tolist(), ranges[:, 2].tolist())
