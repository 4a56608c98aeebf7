"""Widening by itself: where the question is broad, where hits share a section, where a hit ends in mid-sentence."""

from collections import Counter
from collections.abc import Iterator, Sequence

import numpy as np

from doppio.core.kinds import Setting, Settings, choice, number, optional, switch, whole
from doppio.core.select.broad import broadness
from doppio.core.select.pool import Pool
from doppio.core.select.widening.around import Range, densest, section, shrinking
from doppio.core.select.widening.kind import Widened
from doppio.core.text.sentences import sentence_starts

# Characters before and after a passage in which its first and last sentence are looked for.
REACH = 600
# Hits that say where a broad question is answered; those that follow stand all over the corpus.
MOST_HITS = 5
SECTIONS, STRETCH = "sections", "stretch"
AROUND = {SECTIONS: "their whole sections", STRETCH: "one stretch of a document"}
TOLD = {SECTIONS: "its whole section", STRETCH: "what is around it"}


class AsNeeded:
    """See the module; each reason can be switched off.

    A broad question is given the whole sections that its hits stand in; or one long stretch of the document in which
    they weigh most, which finds more where an answer goes over several sections, and less where it is in one. The
    stretch comes before all other passages.
    """

    name, title, order, widens = "as-needed", "where it helps", 5, True
    summary = "broad from {broad}"
    settings: tuple[Setting, ...] = (
        optional(
            number(
                "broad",
                "Broad from",
                0,
                1,
                help="probability that the question asks for more than one fact; empty: never",
            ),
            0.7,
        ),
        choice("around", "Broad questions get", AROUND, SECTIONS),
        whole("tokens", "Stretch, tokens", 1, 100_000, 400, when={"around": (STRETCH,)}),
        optional(
            whole("share", "Whole section, hits in it", 2, 20, help="so many hits bring all of it; empty: never"), 3
        ),
        switch("sentences", "Whole sentences", True, help="a hit that ends in mid-sentence goes on to its end"),
    )

    def widened(self, pool: Pool, settings: Settings) -> Widened:
        own: list[Range] = [(document, start, end) for document, start, end in pool.ranges.tolist()]
        ladders: list[tuple[Range, ...]] = [()] * len(own)
        reasons = [""] * len(own)
        sections = [section(pool.table, chunk) for chunk in pool.chunks.tolist()]
        if settings["share"] is not None:
            held = Counter(sections)
            for place, range in enumerate(sections):
                if held[range] >= settings["share"] and range != own[place]:
                    ladders[place], reasons[place] = (range,), f"its whole section: {held[range]} hits stand in it"
        foremost = None
        if settings["broad"] is not None and len(pool) and self._broad(pool, settings["broad"]) >= settings["broad"]:
            for place, steps in self._around(pool, sections, settings):
                if steps[0] != own[place]:
                    ladders[place] = tuple(steps)
                    reasons[place] = f"{TOLD[settings['around']]}: the question is broad"
                    foremost = place if settings["around"] == STRETCH else None
        if settings["sentences"]:
            short = [place for place, reason in enumerate(reasons) if not reason]
            for place, range in zip(short, _to_sentence_ends(pool, short), strict=True):
                if range != own[place]:
                    ladders[place], reasons[place] = (range,), "to the ends of its sentences"
        return Widened(tuple(ladders), tuple(reasons), foremost)

    def _broad(self, pool: Pool, least: float) -> float:
        # A heading can only make it broader, and is read where that would decide.
        alone, most = broadness(pool.question), broadness(pool.question, [pool.question])
        if alone >= least or most < least:
            return alone
        headings = [text.rsplit("\n", 1)[-1] for text in pool.source.headings(pool.chunks.tolist())]
        return broadness(pool.question, headings)

    def _around(
        self, pool: Pool, sections: Sequence[Range], settings: Settings
    ) -> Iterator[tuple[int, Sequence[Range]]]:
        """Passages, each with what is tried around it."""
        if settings["around"] == SECTIONS:
            yield from ((place, [whole_section]) for place, whole_section in enumerate(sections))
            return
        hits = pool.chunks[:MOST_HITS].tolist()
        low, high = densest(pool.table, hits, settings["tokens"])
        place = next(place for place, hit in enumerate(hits) if low <= hit < high)
        yield place, shrinking(pool.table, (low, high), hits)


def _to_sentence_ends(pool: Pool, places: Sequence[int]) -> list[Range]:
    """What passages hand on, begun and ended with whole sentences."""
    own = pool.ranges[list(places)]
    low, high = np.maximum(own[:, 1] - REACH, 0), own[:, 2] + REACH
    texts = pool.source.between(pool.chunks[list(places)].tolist(), low.tolist(), high.tolist())
    return [
        (document, *_to_bounds(text, first, last, start, end))
        for (document, start, end), first, last, text in zip(
            own.tolist(), low.tolist(), high.tolist(), texts, strict=True
        )
    ]


def _to_bounds(text: str, first: int, last: int, start: int, end: int) -> tuple[int, int]:
    """`[start, end)` begun and ended where a sentence or a line does.

    text : what stands from `first` on, to `last` or to the end of the document
    """
    lines = [place + 1 for place, sign in enumerate(text) if sign == "\n"]
    begins = [first + place for place in (*sentence_starts(text).tolist(), *lines)]
    # A place at which the text was cut off begins and ends nothing.
    begins += [0] if first == 0 else []
    ends = [*begins, first + len(text)] if first + len(text) < last else begins
    begin = max((place for place in begins if place <= start), default=start)
    final = min((place for place in ends if place >= end), default=end)
    added = text[end - first : final - first].rstrip()
    return begin, end + len(added)


KIND = AsNeeded()
