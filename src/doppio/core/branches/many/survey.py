"""Speed against exactness of codes, measured on the very vectors that will be searched."""

import time
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from typing import Any

import numpy as np

from doppio.core.branches.dense.survey import DEPTH, Point, rate
from doppio.core.branches.many.coding import encode
from doppio.core.branches.many.index import Asked, Held, ManyIndex
from doppio.core.fusion.pouring import Ranking
from doppio.core.models.token_vectors import Segment
from doppio.core.progress import Progress, Silent

BITS = (8, 2, 1)
EVERYTHING = "every vector compared"
TRIED = (
    {"probes": 4, "over_fetch": 2},
    {"probes": 16, "over_fetch": 2},
    {"probes": 16, "over_fetch": 4},
    {"probes": 64, "over_fetch": 10},
)


def survey(vectors: Segment, questions: Sequence[Asked], progress: Progress | None = None) -> Iterator[Point]:
    """Make codes of every number of bits over token vectors and measure them against comparing all.

    Parameters
    ----------
    vectors : Segment
        Of all chunks.
    questions : sequence of Asked
        At least one.

    Yields
    ------
    Point
        Comparing all first, whose recall is 1; `structure` holds the settings of a branch.
    """
    progress = progress or Silent()
    plain = ManyIndex([Held(vectors)])
    truth = [set(plain.search(question, DEPTH, None)[0].tolist()) for question in questions]
    progress.start("measure codes", 1 + len(BITS) * len(TRIED), "settings")
    speed = rate(partial(_search, plain, None), questions)
    yield Point({"codes": "none"}, 1.0, speed, 0, 0.0, EVERYTHING)
    progress.advance(1)
    for bits in BITS:
        begun = time.perf_counter()
        codes = encode(vectors, bits, 0)
        seconds = time.perf_counter() - begun
        index = ManyIndex([Held(vectors, codes)])
        for settings in TRIED:
            search = partial(_search, index, settings)
            found = [set(search(question)[0].tolist()) for question in questions]
            shares = [len(wanted & own) / max(len(wanted), 1) for wanted, own in zip(truth, found, strict=True)]
            of_branch = {"codes": str(bits), "cells": 0, **settings}
            told = (
                f"{bits} bit{'s' * (bits > 1)} a number",
                "{probes} cells, {over_fetch} times fetched".format(**settings),
            )
            yield Point(of_branch, float(np.mean(shares)), rate(search, questions), codes.bytes, seconds, *told)
            progress.advance(1)


def _search(index: ManyIndex, settings: Mapping[str, Any] | None, asked: Asked) -> Ranking:
    return index.search(asked, DEPTH, settings)
