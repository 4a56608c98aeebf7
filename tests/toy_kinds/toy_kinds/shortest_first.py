"""A selection rule: short passages are taken before long ones, so that more of them fit."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings, whole
from doppio.core.select.kind import Passages
from doppio.core.select.packing import pack


class ShortestFirst:
    name, title = "shortest-first", "shortest first"
    settings: tuple[Setting, ...] = (whole("most", "Taken at most", 1, 100, 100),)

    def take(self, passages: Passages, settings: Settings) -> NDArray[np.bool_]:
        order = np.argsort(passages.tokens, kind="stable")
        taken = np.zeros(len(order), bool)
        packed = pack(passages.tokens[order], settings["budget_tokens"], passages.groups[order])
        taken[order[packed][: settings["most"]]] = True
        return taken


KIND = ShortestFirst()
