"""Best first: passages are taken in their order while they fit."""

import numpy as np
from numpy.typing import NDArray

from doppio.core.kinds import Setting, Settings
from doppio.core.select.kind import Passages
from doppio.core.select.packing import pack


class BestFirst:
    """See `packing.pack`."""

    name, title, order = "best-first", "best first", 1
    settings: tuple[Setting, ...] = ()

    def take(self, passages: Passages, settings: Settings) -> NDArray[np.bool_]:
        return pack(passages.tokens, settings["budget_tokens"], passages.groups)


KIND = BestFirst()
